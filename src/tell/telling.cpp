#include "tell/telling.hpp"

#include "base/random.hpp"
#include "base/text.hpp"
#include "tell/desk_telling.hpp"
#include "tell/mail_text.hpp"
#include "tell/mail_way.hpp"
#include "tell/report_keeping.hpp"
#include "tell/run_log.hpp"

namespace kestrum {
namespace {

std::string log_of(const RunEntry& run) {
  try {
    return read_log(run);
  } catch (const Error& error) {
    return error.what();
  }
}

OutgoingMail mail_of(const Letter& letter, const Settings& settings) {
  const MailText words = mail_text(letter, log_of);
  OutgoingMail mail;
  mail.id = std::to_string(letter.now.seconds) + "-" + to_hex(random_bytes(8));
  mail.to = letter.to;
  mail.from = settings.mail.sender(letter.machine);
  mail.subject = words.subject;
  mail.text = words.text;
  mail.html = words.html;
  mail.made = letter.now;
  return mail;
}

TellEvent sent(const OutgoingMail& mail, const std::string& address, const MailWay& way) {
  TellEvent event{mail.subject, {address}, {}, {}, {}};
  try {
    event.said = way.send(mail, address).said;
  } catch (const Error& error) {
    event.trouble = error.what();
    event.hint = error.hint();
  }
  return event;
}

class Pass {
 public:
  Pass(const RunContext& context, const Settings& settings, Outbox& outbox, bool at_once, TellDone& done)
      : context_(context),
        outbox_(outbox),
        settings_(settings),
        way_(settings_.mail, context.machine, context.control),
        at_once_(at_once),
        done_(done) {}

  // Returns when there may be more to do.
  std::optional<Instant> make() {
    NewsDesk desk(context_, settings_, outbox_);
    for (const Letter& letter : desk.letters()) desk.put(letter, mail_of(letter, settings_));
    send_all(at_once_);
    // What was gathered meanwhile for those whose mail has gone only now.
    for (const Letter& letter : desk.letters()) desk.put(letter, mail_of(letter, settings_));
    send_all(false);
    std::optional<Instant> again = desk.look_again();
    for (const OutgoingMail& mail : outbox_.mails()) {
      if (!again || mail.next < *again) again = mail.next;
    }
    return again;
  }

 private:
  void send_all(bool at_once) {
    for (const OutgoingMail& mail : outbox_.mails()) {
      const Instant now = context_.clock.now();
      // Also one that a clock ahead has put off.
      const bool early = now < mail.next && mail.next.seconds <= now.seconds + retry_seconds(mail.tries);
      if (at_once || !early) send(mail, now);
    }
  }

  // Each address for itself: one that is none keeps no other from its mail.
  void send(OutgoingMail mail, Instant now) {
    for (const std::string& address : Recipients(mail.left)) {
      TellEvent event = sent(mail, address, way_);
      if (event.trouble.empty()) {
        // At once: whoever has it does not get it again, whatever happens with the next.
        std::erase(mail.left, address);
        if (!mail.left.empty()) outbox_.put(mail);
      } else {
        mail.trouble = event.trouble;
      }
      done_.events.push_back(std::move(event));
    }
    if (mail.left.empty() || now.seconds >= mail.made.seconds + given_up_after)
      return outbox_.remove(mail.id);
    ++mail.tries;
    mail.next = {now.seconds + retry_seconds(mail.tries), 0};
    outbox_.put(mail);
  }

  const RunContext& context_;
  Outbox& outbox_;
  const Settings& settings_;
  MailWay way_;
  bool at_once_;
  TellDone& done_;
};

std::optional<Instant> earlier(std::optional<Instant> a, std::optional<Instant> b) {
  return !a || (b && *b < *a) ? b : a;
}

// `again`: when there may be something to tell at the desks.
void tell_by_mail(const RunContext& context, std::optional<Instant> again, bool at_once, TellDone& done) {
  try {
    const Settings settings = context.home.load_settings();
    const bool mail = !settings.mail.server.empty();
    if (!mail && !again) return;
    // Whoever comes while another process is at it leaves it to that one.
    do {
      std::optional<Outbox> outbox = Outbox::open(context.home);
      if (!outbox) return;
      do {
        if (mail) again = earlier(again, Pass(context, settings, *outbox, at_once, done).make());
        // What comes without a word, as that a point is too old, is noticed within a day.
        const Instant tomorrow{context.clock.now().seconds + 86400, 0};
        outbox->look_again(earlier(again, tomorrow));
      } while (outbox->asked_again());
    } while (Outbox::is_asked(context.home));
  } catch (const Error& error) {
    done.trouble = error.what();
  } catch (const std::exception& error) {
    done.trouble = std::string("unexpected: ") + error.what();
  }
}

}  // namespace

TellDone tell_news(const RunContext& context, bool at_once) {
  TellDone done;
  try {
    done.pages = keep_pages(context);
  } catch (const std::exception& error) {
    done.pages.emplace_back(error.what());
  }
  std::optional<Instant> again;
  try {
    again = tell_at_desks(context);
  } catch (const std::exception& error) {
    done.desks = error.what();
  }
  tell_by_mail(context, again, at_once, done);
  return done;
}

TellDone tell_trial(const Job& job, const RunContext& context) {
  const Settings settings = context.home.load_settings();
  if (settings.mail.server.empty())
    throw Error(ErrorKind::usage, "no mail server is known",
                "kestrum settings set --mail-server mail.skerrypoint.example");
  const Recipients to = recipients_of(job.tell, settings);
  if (to.empty())
    throw Error(ErrorKind::usage, "nobody is to be told of '" + printable(job.name) + "'",
                "kestrum job edit " + shell_word(printable(job.name)) +
                    " --tell-mail ADDRESS, or for all jobs: kestrum settings set --mail-to ADDRESS");
  OutgoingMail mail = mail_of(trial_letter(job, to, context), settings);
  mail.subject = "Test: " + mail.subject;
  const MailWay way(settings.mail, context.machine, context.control);
  TellDone done;
  for (const std::string& address : to) done.events.push_back(sent(mail, address, way));
  return done;
}

}  // namespace kestrum
