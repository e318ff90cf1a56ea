#include "ledger/drill_book.hpp"

#include "base/text.hpp"

namespace kestrum {
namespace {

constexpr const char* columns =
    "job, drive, at, point, point_started, files, all_files, bytes, all_bytes, bad, source_same, "
    "source_differs, opened, unopened, trials, failed_trials, seconds, all_seconds, good";

std::int64_t number(std::uint64_t value) {
  return static_cast<std::int64_t>(value);
}

}  // namespace

void DrillBook::add(const DrillEntry& drill) {
  const std::string text = std::string("INSERT INTO drill (") + columns +
                           ") VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)";
  Statement insert(database_.get(), text.c_str());
  insert.bind(1, to_utf8(drill.job)).bind(2, to_utf8(drill.drive)).bind(3, utc_text(drill.when));
  insert.bind(4, number(drill.point)).bind(5, utc_text(drill.point_started));
  int at = 6;
  for (const std::uint64_t value :
       {drill.files, drill.all_files, drill.bytes, drill.all_bytes, drill.bad, drill.source_same,
        drill.source_differs, drill.opened, drill.unopened, drill.trials, drill.failed_trials, drill.seconds,
        drill.all_seconds, std::uint64_t{drill.good}})
    insert.bind(at++, number(value));
  insert.step();
}

std::vector<DrillEntry> DrillBook::drills(const std::string& job, int most) {
  const std::string text =
      std::string("SELECT ") + columns + " FROM drill WHERE job = ? ORDER BY id DESC LIMIT ?";
  Statement ask(database_.get(), text.c_str());
  ask.bind(1, to_utf8(job)).bind(2, most);
  std::vector<DrillEntry> all;
  while (ask.step()) {
    DrillEntry drill;
    drill.job = ask.text(0);
    drill.drive = ask.text(1);
    drill.when = parse_utc(ask.text(2)).value_or(Instant{});
    drill.point = static_cast<Sequence>(ask.integer(3));
    drill.point_started = parse_utc(ask.text(4)).value_or(Instant{});
    int at = 5;
    for (std::uint64_t* value : {&drill.files, &drill.all_files, &drill.bytes, &drill.all_bytes, &drill.bad,
                                 &drill.source_same, &drill.source_differs, &drill.opened, &drill.unopened,
                                 &drill.trials, &drill.failed_trials, &drill.seconds, &drill.all_seconds})
      *value = static_cast<std::uint64_t>(ask.integer(at++));
    drill.good = ask.integer(at) != 0;
    all.push_back(std::move(drill));
  }
  return all;
}

}  // namespace kestrum
