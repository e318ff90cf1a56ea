#include "ledger/check_book.hpp"

#include "base/exit_codes.hpp"
#include "base/text.hpp"

namespace kestrum {

std::string_view check_kind_word(CheckKind kind) {
  return kind == CheckKind::drill ? "drill" : "check";
}

bool JobCheck::settles() const {
  if (!ended) return false;
  for (const ErrorKind again : {ErrorKind::no_destination, ErrorKind::busy, ErrorKind::stopped}) {
    if (exit_code == exit_code_of(again)) return false;
  }
  return true;
}

void CheckBook::begin(JobCheck& check) {
  // Years of them are of no use.
  constexpr std::int64_t most = 400;
  Transaction writing(database_, "BEGIN IMMEDIATE");
  Statement clear(database_.get(),
                  "DELETE FROM job_check WHERE job = ?1 AND kind = ?3 AND id NOT IN "
                  "(SELECT id FROM job_check WHERE job = ?1 AND kind = ?3 ORDER BY id DESC LIMIT ?2)");
  const std::string kind(check_kind_word(check.kind));
  clear.bind(1, check.job).bind(2, most - 1).bind(3, kind).step();
  Statement insert(
      database_.get(),
      "INSERT INTO job_check (job, started, process, kind, exit_code, bytes, left_bytes, complete, message) "
      "VALUES (?, ?, ?, ?, 0, 0, 0, 0, '')");
  insert.bind(1, check.job).bind(2, utc_text(check.started)).bind(3, check.process).bind(4, kind).step();
  check.id = database_.last_row();
  writing.commit();
}

void CheckBook::finish(const JobCheck& check) {
  Statement update(
      database_.get(),
      "UPDATE job_check SET ended = ?2, exit_code = ?3, bytes = ?4, left_bytes = ?5, complete = ?6, "
      "message = ?7 WHERE id = ?1");
  update.bind(1, check.id).bind(2, utc_text(check.ended.value_or(check.started))).bind(3, check.exit_code);
  update.bind(4, static_cast<std::int64_t>(check.bytes)).bind(5, static_cast<std::int64_t>(check.left_bytes));
  update.bind(6, check.complete ? 1 : 0).bind(7, to_utf8(check.message)).step();
}

std::vector<JobCheck> CheckBook::checks(const std::string& job, CheckKind kind, int most) {
  Statement ask(
      database_.get(),
      "SELECT id, started, ended, process, exit_code, bytes, left_bytes, complete, message FROM job_check "
      "WHERE job = ? AND kind = ? ORDER BY id DESC LIMIT ?");
  ask.bind(1, job).bind(2, std::string(check_kind_word(kind))).bind(3, most);
  std::vector<JobCheck> all;
  while (ask.step()) {
    JobCheck check{.id = ask.integer(0), .job = job, .started = parse_utc(ask.text(1)).value_or(Instant{})};
    if (!ask.is_null(2)) check.ended = parse_utc(ask.text(2));
    check.process = ask.text(3);
    check.exit_code = static_cast<int>(ask.integer(4));
    check.bytes = static_cast<std::uint64_t>(ask.integer(5));
    check.left_bytes = static_cast<std::uint64_t>(ask.integer(6));
    check.complete = ask.integer(7) != 0;
    check.message = ask.text(8);
    check.kind = kind;
    all.push_back(std::move(check));
  }
  return all;
}

}  // namespace kestrum
