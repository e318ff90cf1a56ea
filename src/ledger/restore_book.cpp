#include "ledger/restore_book.hpp"

#include "base/text.hpp"

namespace kestrum {

void RestoreBook::add(const RestoreEntry& entry) {
  Statement insert(
      database_.get(),
      "INSERT INTO restore (job, machine, drive, point, point_started, started, seconds, result, place, "
      "files, bytes, left_alone, problems) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
  insert.bind(1, to_utf8(entry.job)).bind(2, to_utf8(entry.machine)).bind(3, to_utf8(entry.drive));
  insert.bind(4, static_cast<std::int64_t>(entry.point)).bind(5, utc_text(entry.point_started));
  insert.bind(6, utc_text(entry.started)).bind(7, entry.seconds);
  insert.bind(8, std::string(result_text(entry.result))).bind(9, to_utf8(entry.where));
  insert.bind(10, static_cast<std::int64_t>(entry.files)).bind(11, static_cast<std::int64_t>(entry.bytes));
  insert.bind(12, static_cast<std::int64_t>(entry.left_alone));
  insert.bind(13, static_cast<std::int64_t>(entry.problems)).step();
}

std::vector<RestoreEntry> RestoreBook::entries(const std::string& job, int most) {
  Statement ask(
      database_.get(),
      "SELECT job, machine, drive, point, point_started, started, seconds, result, place, files, bytes, "
      "left_alone, problems FROM restore WHERE ?1 = '' OR job = ?1 ORDER BY id DESC LIMIT ?2");
  ask.bind(1, to_utf8(job)).bind(2, static_cast<std::int64_t>(most));
  std::vector<RestoreEntry> out;
  while (ask.step()) {
    RestoreEntry one;
    one.job = ask.text(0);
    one.machine = ask.text(1);
    one.drive = ask.text(2);
    one.point = static_cast<Sequence>(ask.integer(3));
    one.point_started = parse_utc(ask.text(4)).value_or(Instant{});
    one.started = parse_utc(ask.text(5)).value_or(Instant{});
    one.seconds = ask.integer(6);
    one.result = parse_result(ask.text(7)).value_or(RunResult::failed);
    one.where = ask.text(8);
    one.files = static_cast<std::uint64_t>(ask.integer(9));
    one.bytes = static_cast<std::uint64_t>(ask.integer(10));
    one.left_alone = static_cast<std::uint64_t>(ask.integer(11));
    one.problems = static_cast<std::uint64_t>(ask.integer(12));
    out.push_back(std::move(one));
  }
  return out;
}

}  // namespace kestrum
