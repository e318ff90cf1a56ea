#include "tell/mail_text.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "tell/age_words.hpp"
#include "tell/html.hpp"
#include "tell/status_words.hpp"

namespace kestrum {
namespace {

struct Part {
  std::string heading;
  std::vector<std::string> lines;
  bool as_it_is = false;  // a log
};

struct Body {
  std::string sentence;
  std::vector<Part> parts;
  std::string foot;
};

bool has_trouble(const JobNews& news) {
  return !news.step.fresh.empty() || !news.step.again.empty();
}

std::string trouble_line(const JobTrouble& trouble, const JobStatus& status) {
  return (trouble.kind == TroubleKind::failed ? "the last run failed: " : "") + trouble_text(trouble, status);
}

// The first words of it, for a subject.
std::string shortened(std::string text, std::size_t most) {
  text = text.substr(0, text.find('\n'));
  if (text.size() <= most) return text;
  std::size_t end = text.rfind(' ', most);
  if (end == std::string::npos || end < most / 2) end = most;
  while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xc0) == 0x80) --end;
  return text.substr(0, end) + " ...";
}

std::vector<std::string> names_of(const std::vector<const JobNews*>& jobs) {
  std::vector<std::string> names;
  for (const JobNews* news : jobs) names.push_back(printable(news->status.job));
  return names;
}

std::string some_of(const std::vector<std::string>& names) {
  constexpr std::size_t most = 5;
  if (names.size() <= most) return join(names, ", ");
  return join(std::vector<std::string>(names.begin(), names.begin() + most), ", ") + " and " +
         std::to_string(names.size() - most) + " more";
}

// What several runs came to: "7 done, 1 failed".
std::string tally(const std::vector<RunEntry>& runs) {
  std::map<RunResult, std::size_t> counts;
  for (const RunEntry& run : runs) ++counts[run.result];
  std::vector<std::string> parts;
  for (const auto& [result, count] : counts)
    parts.push_back(std::to_string(count) + " " + std::string(result_text(result)));
  return parts.empty() ? "no run" : join(parts, ", ");
}

std::string run_line(const RunEntry& run) {
  std::string line = "run " + std::to_string(run.number) + ", " + local_text(run.started) + ": " +
                     std::string(result_text(run.result));
  if (run.sequence)
    line += "; " + grouped(run.totals.new_files) + " new, " + grouped(run.totals.changed_files) +
            " changed, " + grouped(run.totals.gone_files) + " gone; " + size_text(run.totals.stored_bytes) +
            " stored";
  if (!run.message.empty()) line += "; " + shortened(run.message, 200);
  return line;
}

class Writer {
 public:
  Writer(const Letter& letter, const std::function<std::string(const RunEntry&)>& log)
      : letter_(letter), log_(log) {
    for (const JobNews& news : letter.jobs) {
      if (has_trouble(news)) {
        bad_.push_back(&news);
      } else if (news.step.good_again) {
        good_.push_back(&news);
      }
    }
  }

  std::string subject() const { return printable(letter_.machine) + ": " + headline(); }

  Body body() {
    Body body;
    body.sentence = sentence();
    if (!letter_.away.empty()) body.parts.push_back({"", letter_.away});
    for (const JobNews* news : bad_) body.parts.push_back(trouble_part(*news));
    for (const JobNews* news : good_) body.parts.push_back(good_part(*news));
    if (letter_.digest) digest(body);
    for (const JobNews& news : letter_.jobs) details(news, body);
    body.foot = "Sent by kestrum on " + printable(letter_.machine) + ", " + local_text(letter_.now, true) +
                ". How all jobs stand: kestrum status. Who gets such mail, and when: kestrum help mail";
    return body;
  }

 private:
  std::string period() const {
    const bool weekly = std::any_of(letter_.jobs.begin(), letter_.jobs.end(), [](const JobNews& news) {
      return news.step.digest && news.rules.digest == DigestEvery::weekly;
    });
    return (weekly ? "the week until " : "the day until ") + weekday_text(letter_.now) + " " +
           day_text(letter_.now);
  }

  static const JobTrouble& worst(const JobNews& news) {
    const std::size_t number = std::min(news.step.fresh.empty() ? SIZE_MAX : news.step.fresh[0],
                                        news.step.again.empty() ? SIZE_MAX : news.step.again[0]);
    return news.status.troubles[number];
  }
  static std::string worst_line(const JobNews& news) { return trouble_line(worst(news), news.status); }

  std::string headline() const {
    constexpr std::size_t most = 90;
    if (bad_.size() == 1)
      return printable(bad_[0]->status.job) + " needs a look: " + shortened(worst_line(*bad_[0]), most);
    if (!bad_.empty()) {
      const JobTrouble& first = worst(*bad_[0]);
      const bool same = std::all_of(bad_.begin(), bad_.end(), [&](const JobNews* one) {
        return worst(*one).kind == first.kind && worst(*one).text == first.text;
      });
      return std::to_string(bad_.size()) +
             " jobs need a look: " + (same ? shortened(worst_line(*bad_[0]), most) : some_of(names_of(bad_)));
    }
    if (!letter_.away.empty()) return "nobody looked after the jobs for a time";
    if (letter_.digest) return period() + ": " + all_jobs_text();
    if (!good_.empty())
      return some_of(names_of(good_)) + (good_.size() == 1 ? " is" : " are") + " good again";
    return runs_text();
  }

  // How those of the digest stand.
  std::string all_jobs_text() const {
    std::size_t jobs = 0, bad = 0;
    for (const JobNews& news : letter_.jobs) {
      if (!news.step.digest) continue;
      ++jobs;
      bad += news.status.troubles.empty() ? 0 : 1;
    }
    if (bad > 0)
      return std::to_string(bad) + " of " + count_text(jobs, "job") + " need" + (bad == 1 ? "s" : "") +
             " a look";
    return jobs == 1 ? printable(letter_.jobs[0].status.job) + " is good"
                     : "all " + count_text(jobs, "job") + " are good";
  }

  std::string runs_text() const {
    if (letter_.jobs.size() != 1) return count_text(letter_.jobs.size(), "job") + " ran";
    const JobNews& news = letter_.jobs[0];
    const std::string name = printable(news.status.job);
    if (news.runs.size() != 1) return name + ": " + tally(news.runs);
    const RunEntry& run = news.runs[0];
    return name + ": " + std::string(result_text(run.result)) +
           (run.sequence ? ", " + grouped(run.totals.new_files) + " new and " +
                               grouped(run.totals.changed_files) + " changed"
                         : std::string());
  }

  std::string sentence() const {
    const std::string machine = printable(letter_.machine);
    if (bad_.size() == 1) return printable(bad_[0]->status.job) + " on " + machine + " needs a look.";
    return "On " + machine + ": " + headline() + ".";
  }

  static std::string standing(const JobNews& news, Instant now) {
    const JobStatus& status = news.status;
    std::string text = "newest good point: " + age_text(status.newest_good, now);
    if (status.newest_good) text += " (" + local_text(*status.newest_good) + ")";
    if (status.times.next) text += "; next run " + local_text(*status.times.next);
    return text;
  }

  Part trouble_part(const JobNews& news) const {
    Part part{bad_.size() == 1 ? "What is wrong" : printable(news.status.job) + " needs a look", {}};
    const auto add = [&](std::size_t number, const char* before) {
      const JobTrouble& trouble = news.status.troubles[number];
      const std::string advice = trouble_advice(trouble, news.status);
      part.lines.push_back(before + trouble_line(trouble, news.status));
      if (!advice.empty()) part.lines.push_back("what to do: " + advice);
    };
    for (std::size_t number : news.step.fresh) add(number, "");
    for (std::size_t number : news.step.again) add(number, "still: ");
    part.lines.push_back(standing(news, letter_.now));
    return part;
  }

  Part good_part(const JobNews& news) const {
    return {printable(news.status.job) + " is good again",
            {"what was told of it before has gone", standing(news, letter_.now)}};
  }

  void digest(Body& body) const {
    Part part{"In " + period(), {}};
    for (const JobNews& news : letter_.jobs) {
      if (!news.step.digest) continue;
      std::uint64_t stored = 0;
      for (const RunEntry& run : news.runs) stored += run.totals.stored_bytes;
      std::string line = printable(news.status.job) + ": " + tally(news.runs) + "; " + size_text(stored) +
                         " stored; " + standing(news, letter_.now);
      if (!has_trouble(news)) {
        for (const JobTrouble& trouble : news.status.troubles)
          line += "; " + trouble_line(trouble, news.status);
      }
      part.lines.push_back(std::move(line));
    }
    body.parts.push_back(std::move(part));
  }

  // What the runs did, as far as the job wants it told.
  void details(const JobNews& news, Body& body) const {
    const bool only_runs = news.step.runs && !has_trouble(news);
    if (news.runs.empty() || (news.rules.detail == TellDetail::problems && !only_runs)) return;
    constexpr std::size_t most = 10;
    Part part{"Runs of " + printable(news.status.job), {}};
    for (std::size_t i = 0; i < std::min(most, news.runs.size()); ++i)
      part.lines.push_back(run_line(news.runs[i]));
    if (news.runs.size() > most)
      part.lines.push_back("and " + std::to_string(news.runs.size() - most) + " more: kestrum history " +
                           shell_word(printable(news.status.job)));
    body.parts.push_back(std::move(part));
    if (news.rules.detail != TellDetail::everything) return;
    body.parts.push_back(log_part(news.runs[0]));
  }

  Part log_part(const RunEntry& run) const {
    constexpr std::size_t most = 200;
    Part part{"Log of run " + std::to_string(run.number) + " of " + printable(run.job),
              split(log_(run), '\n'), true};
    if (part.lines.size() > most) {
      const std::size_t more = part.lines.size() - most;
      part.lines.resize(most);
      part.lines.push_back("and " + count_text(more, "line") + " more: kestrum history " +
                           shell_word(printable(run.job)) + " --run " + std::to_string(run.number) +
                           " --log");
    }
    return part;
  }

  const Letter& letter_;
  const std::function<std::string(const RunEntry&)>& log_;
  std::vector<const JobNews*> bad_, good_;
};

std::string as_text(const Body& body) {
  std::string out = body.sentence + "\n";
  for (const Part& part : body.parts) {
    out += "\n";
    if (!part.heading.empty()) out += part.heading + "\n";
    for (const std::string& line : part.lines) out += (part.as_it_is ? "  " : "  - ") + line + "\n";
  }
  return out + "\n" + body.foot + "\n";
}

std::string as_html(const Body& body, const std::string& title) {
  std::string out =
      "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>" + html_text(title) +
      "</title></head>\n<body style=\"font-family: sans-serif; line-height: 1.4; max-width: 44em\">\n<p><b>" +
      html_text(body.sentence) + "</b></p>\n";
  for (const Part& part : body.parts) {
    if (!part.heading.empty())
      out += "<h2 style=\"font-size: 1em; margin-bottom: 0.2em\">" + html_text(part.heading) + "</h2>\n";
    if (part.as_it_is) {
      out += "<pre style=\"white-space: pre-wrap\">" + html_text(join(part.lines, "\n")) + "</pre>\n";
      continue;
    }
    out += "<ul style=\"margin-top: 0.2em\">\n";
    for (const std::string& line : part.lines) out += "<li>" + html_text(line) + "</li>\n";
    out += "</ul>\n";
  }
  return out + "<p style=\"font-size: 0.85em\">" + html_text(body.foot) + "</p>\n</body></html>\n";
}

}  // namespace

MailText mail_text(const Letter& letter, const std::function<std::string(const RunEntry&)>& log) {
  Writer writer(letter, log);
  const Body body = writer.body();
  const std::string subject = writer.subject();
  return {to_utf8(subject), to_utf8(as_text(body)), as_html(body, subject)};
}

}  // namespace kestrum
