#include <algorithm>

#include "base/error.hpp"
#include "base/text.hpp"
#include "job/key_setters.hpp"

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

void set_recovery_key(Job& job, const KeyValues& values) {
  if (!values[0].starts_with('/'))
    refuse_value("the recovery key's public part must be named by its absolute path",
                 "write it like /etc/kestrum/office.pub; make one with: kestrum recovery create FILE");
  job.recovery_key = values[0];
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
  job.read_back = one_of(values[0], {"read back", "nothing"}) == 0;
}

void set_before(Job& job, const KeyValues& values) {
  job.before = values[0];
}
void set_after(Job& job, const KeyValues& values) {
  job.after = values[0];
}

// RFC 5321 allows more; this is what people have.
void set_mail(Job& job, const KeyValues& values) {
  const std::string& value = values[0];
  std::size_t at = value.find('@');
  bool good = at != std::string::npos && at > 0 && at + 1 < value.size() &&
              value.find('@', at + 1) == std::string::npos &&
              value.find_first_of(" \t\r\n<>,;") == std::string::npos;
  if (!good)
    refuse_value("'" + printable(value) + "' is no mail address", "write it like office@skerrypoint.example");
  job.mail = value;
}
void set_detail(Job& job, const KeyValues& values) {
  one_of(values[0], {"problems", "summary", "everything"});
  job.mail_detail = values[0];
}

}  // namespace kestrum
