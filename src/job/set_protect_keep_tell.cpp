#include <algorithm>

#include "base/error.hpp"
#include "base/text.hpp"
#include "base/tree_path.hpp"
#include "job/key_setters.hpp"
#include "job/settings.hpp"

namespace kestrum {

void set_encryption(Job& job, const KeyValues& values) {
  job.encryption =
      one_of(values[0], {"aes-256-gcm", "none"}) == 0 ? Encryption::aes_256_gcm : Encryption::none;
}

void set_passphrase(Job& job, const KeyValues& values) {
  const std::string& value = values[0];
  bool good = value == "ask" || (value.starts_with("file:/") && value.size() > 6);
  if (!good) {
    refuse_value(value.starts_with("file:") ? "the passphrase file must be named by its absolute path"
                                            : "this does not say where the passphrase comes from",
                 "write \"file:/etc/kestrum/NAME.pass\", or \"ask\"; never the passphrase itself");
  }
  job.passphrase = value;
}

void set_passphrase_memory(Job& job, const KeyValues& values) {
  constexpr std::uint64_t least = 64, most = 1024;  // MiB; what every reader allows
  const std::uint64_t bytes = size_value(values[0]);
  if (bytes < least << 20 || bytes > most << 20)
    refuse_value("the memory for each try is between 64 MiB and 1 GiB",
                 "256 MiB takes four times as long as usual");
  job.passphrase_memory_kib = static_cast<std::uint32_t>(bytes >> 10);
}

void set_recovery_keys(Job& job, const KeyValues& values) {
  for (const std::string& value : values) {
    if (!value.starts_with('/'))
      refuse_value("the recovery key's public part must be named by its absolute path",
                   "write it like /etc/kestrum/office.pub; make one with: kestrum recovery create FILE");
  }
  job.recovery_keys = values;
}

void set_parity(Job& job, const KeyValues& values) {
  constexpr unsigned most = 50;
  if (values[0] == "off") {
    job.parity_percent = 0;
    return;
  }
  const unsigned percent = parse_percent(values[0]);
  if (percent > most)
    refuse_value("more than half as much again helps no better than a second copy",
                 "give up to 50%, or off; 5% is usual");
  job.parity_percent = percent;
}
void set_guard(Job& job, const KeyValues& values) {
  job.guard = one_of(values[0], {"yes", "no"}) == 0;
}

void set_bait(Job& job, const KeyValues& values) {
  for (const std::string& value : values) {
    if (!value.starts_with('/') || value.ends_with('/'))
      refuse_value("a bait file must be named by its absolute path",
                   "write it like /home/isla/Documents/0-accounts.txt, a place that the job saves");
  }
  job.bait = values;
}

void set_keep_age(Job& job, const KeyValues& values) {
  job.keep.age = expect_span(values[0]);
}
void set_keep_chains(Job& job, const KeyValues& values) {
  job.keep.chains = parse_count_of(values[0], "chain");
}
void set_keep_points(Job& job, const KeyValues& values) {
  job.keep.points = parse_count_of(values[0], "point");
}
void set_keep_thin(Job& job, const KeyValues& values) {
  job.keep.thin.clear();
  for (const std::string& value : values) job.keep.thin.push_back(parse_thin_rule(value));
}
void set_job_limit(Job& job, const KeyValues& values) {
  job.keep.job_limit = size_value(values[0]);
}
void set_drive_limit(Job& job, const KeyValues& values) {
  job.keep.drive_limit = parse_percent(values[0]);
}
void set_leave_free(Job& job, const KeyValues& values) {
  job.keep.leave_free = size_value(values[0]);
}
void set_at_least(Job& job, const KeyValues& values) {
  job.keep.at_least = parse_count_of(values[0], "point");
}

void set_after_run(Job& job, const KeyValues& values) {
  job.after_run = static_cast<AfterRun>(one_of(values[0], {"nothing", "read back", "read back all"}));
}

// What is wanted so seldom needs no time: one when people are rarely in the middle of something.
static std::string with_a_time(const std::string& value) {
  if (value == "weekly") return "saturday at 12:00";
  return value == "monthly" ? "first saturday at 12:00" : value;
}

// `what`: is made at these times.
static std::vector<Phrase> times_besides_runs(const KeyValues& values, const std::string& what) {
  std::vector<Phrase> times;
  for (const std::string& value : values) {
    Phrase phrase = parse_phrase(with_a_time(value));
    if (phrase.type == Phrase::Type::on_change)
      refuse_value("nothing that changes makes a " + what + " due", "give times, like \"saturday at 03:00\"");
    if (phrase.kind)
      refuse_value("a " + what + " writes no set, and '" + value + "' says of which kind",
                   "leave out " + std::string(kind_name(*phrase.kind)));
    times.push_back(std::move(phrase));
  }
  return times;
}

void set_check_times(Job& job, const KeyValues& values) {
  job.check_times = times_besides_runs(values, "check");
}

void set_drill_times(Job& job, const KeyValues& values) {
  job.drill_times = times_besides_runs(values, "drill");
}

void set_drill_with(Job& job, const KeyValues& values) {
  for (const std::string& value : values) {
    if (!value.starts_with('/') || !TreePath::parse(value))
      refuse_value("'" + value + "' is no path", "give it from the root: /srv/ringing/2026.csv");
  }
  job.drill_with = values;
}

void set_check_budget(Job& job, const KeyValues& values) {
  job.check_budget = parse_check_limit(values[0]);
}

void set_before(Job& job, const KeyValues& values) {
  job.before = values[0];
}
void set_if_before_fails(Job& job, const KeyValues& values) {
  job.goes_on_without_before = one_of(values[0], {"give up", "go on"}) == 1;
}
void set_after_failure(Job& job, const KeyValues& values) {
  job.after_failure = values[0];
}
void set_after(Job& job, const KeyValues& values) {
  job.after = values[0];
}
void set_around_limit(Job& job, const KeyValues& values) {
  job.around_limit = expect_span(values[0]);
}

void set_afterwards(Job& job, const KeyValues& values) {
  job.afterwards = static_cast<Afterwards>(one_of(values[0], {"nothing", "standby", "switch off"}));
}
void set_afterwards_if_failed(Job& job, const KeyValues& values) {
  job.afterwards_if_failed = one_of(values[0], {"no", "yes"}) == 1;
}

void set_mail(Job& job, const KeyValues& values) {
  for (const std::string& value : values) check_mail_address(value);
  job.tell.mail = values;
}
void set_detail(Job& job, const KeyValues& values) {
  job.tell.detail = static_cast<TellDetail>(one_of(values[0], {"problems", "summary", "everything"}));
}
void set_when(Job& job, const KeyValues& values) {
  set_tell_when(job.tell, values);
}
void set_desktop(Job& job, const KeyValues& values) {
  job.tell.desktop = static_cast<TellRules::Desktop>(one_of(values[0], {"no", "problems", "every run"}));
}
void set_page(Job& job, const KeyValues& values) {
  if (!values[0].starts_with('/') || values[0].ends_with('/'))
    refuse_value("the page must be named by its absolute path", "write it like /srv/office/wardens.html");
  job.tell.page = values[0];
}

}  // namespace kestrum
