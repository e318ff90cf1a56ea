#include "ledger/point_book.hpp"

#include "base/hex_array.hpp"

namespace kestrum {

void PointBook::add(const Id& job, const Id& drive, const std::vector<KnownPoint>& points) {
  if (points.empty()) return;
  Transaction transaction(database_, "BEGIN IMMEDIATE");
  Statement put(database_.get(),
                "INSERT INTO point (set_id, job_id, drive_id, sequence, kind, started, files, bytes) VALUES "
                "(?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8) ON CONFLICT (set_id, drive_id) DO UPDATE SET gone = NULL");
  for (const KnownPoint& point : points) {
    put.reset();
    put.bind(1, to_hex(point.set)).bind(2, to_hex(job)).bind(3, to_hex(drive));
    put.bind(4, static_cast<std::int64_t>(point.sequence)).bind(5, std::string(kind_name(point.kind)));
    put.bind(6, utc_text(point.started)).bind(7, static_cast<std::int64_t>(point.files));
    put.bind(8, static_cast<std::int64_t>(point.bytes));
    put.step();
  }
  transaction.commit();
}

void PointBook::let_go(const Id& set, Instant when) {
  Statement put(database_.get(), "UPDATE point SET gone = ?2 WHERE set_id = ?1 AND gone IS NULL");
  put.bind(1, to_hex(set)).bind(2, utc_text(when));
  put.step();
}

std::vector<KnownPoint> PointBook::known(const Id& job, const Id& drive) {
  Statement ask(database_.get(),
                "SELECT set_id, sequence, kind, started, files, bytes FROM point WHERE job_id = ?1 AND "
                "drive_id = ?2 AND gone IS NULL ORDER BY sequence");
  ask.bind(1, to_hex(job)).bind(2, to_hex(drive));
  std::vector<KnownPoint> points;
  while (ask.step()) {
    KnownPoint& point = points.emplace_back();
    point.set = array_from_hex<16>(ask.text(0)).value_or(Id{});
    point.sequence = static_cast<Sequence>(ask.integer(1));
    point.kind = parse_kind(ask.text(2)).value_or(Kind::full);
    point.started = parse_utc(ask.text(3)).value_or(Instant{});
    point.files = static_cast<std::uint64_t>(ask.integer(4));
    point.bytes = static_cast<std::uint64_t>(ask.integer(5));
  }
  return points;
}

}  // namespace kestrum
