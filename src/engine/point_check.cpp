#include "engine/point_check.hpp"

#include "archive/content_list.hpp"
#include "base/text.hpp"
#include "engine/same_content.hpp"

namespace kestrum {
namespace {

constexpr std::size_t listed_files = 1000;

// The list of a point as a part of its set, for what is remembered of checks.
constexpr Stretch list_of_point{UINT32_MAX, 0, 1};

}  // namespace

// True when it is for the caller to go on with: damage. What the system could not do ends the checking of
// this point, or of everything. Where a bad place was found, it is that place that is met again.
bool PointCheck::is_damage(PointVerdict& verdict, const Error& error) const {
  if (error.kind() == ErrorKind::key || (is_of_the_system(error) && !does_not_read(error))) throw error;
  if (!is_of_the_system(error) || met_.bad_places) return true;
  verdict.unreadable = error.what();
  return false;
}

void PointCheck::add_affected(PointVerdict& verdict, std::string path, std::string reason,
                              const std::set<BadPlaces::Place>& places) {
  ++verdict.affected_count;
  bad_.affects(places, verdict.sequence, path);
  if (met_.request.affected != nullptr) {
    std::vector<BadPlace> where;
    for (const BadPlaces::Place place : places) where.push_back(bad_[place]);
    met_.request.affected->file(verdict.sequence, path, reason, where);
  }
  if (verdict.affected.size() < listed_files)
    verdict.affected.push_back({std::move(path), std::move(reason), {places.begin(), places.end()}});
}

void PointCheck::go_through(PointVerdict& verdict) {
  std::optional<PointReader> point;
  std::optional<CatalogReader> catalog;
  try {
    point.emplace(chain_, verdict.sequence);
    catalog.emplace(*point, point->set().root().catalog);
  } catch (const Error& error) {
    if (is_damage(verdict, error)) add_affected(verdict, "/", "nothing of this point can be read");
    return;
  }
  for (const SetNeed& need : chain_.sets().needs().closure(point->set().facts()).missing)
    verdict.findings.push_back("set " + std::to_string(need.sequence) +
                               ", which this point needs, is not there or not valid");
  try {
    if (!goes_through_list(point->set().facts())) {
      catalog->next();
      return;
    }
    check_record_chunks(verdict, *point);
  } catch (const Error& error) {
    if (!is_damage(verdict, error)) return;
    add_affected(verdict, "/",
                 "the list of files does not read from its start: " + std::string(error.what()));
    return;
  }
  check_entries(verdict, *point, *catalog);
  verdict.listed = verdict.unreadable.empty();
  if (verdict.listed && verdict.affected_count == 0) round_.proved(point->set().facts().set, list_of_point);
}

bool PointCheck::goes_through_list(const SetFacts& facts) {
  if (met_.request.depth == Depth::quick) return false;
  if (met_.damage || met_.request.known || !met_.in_parts) return true;
  if (met_.request.depth == Depth::sample) return met_.sample.lists.contains(facts.sequence);
  if (!round_.is_due(facts.set, list_of_point)) return false;
  if (!round_.over()) return true;
  round_.leave(0);
  return false;
}

// The job file and the record of the run: needed to build a lost home again, not to restore.
void PointCheck::check_record_chunks(PointVerdict& verdict, PointReader& point) {
  const Root& root = point.set().root();
  for (const ChunkRef& ref : {root.record, root.job_file, root.problems}) {
    if (ref.length != 0 && !chunk_looks_.present(point, ref))
      verdict.findings.push_back("the record of this set's run does not read");
  }
}

void PointCheck::check_entries(PointVerdict& verdict, PointReader& point, CatalogReader& catalog) {
  std::set<BadPlaces::Place> pages;
  catalog.on_page([&](const ChunkRef& page) {
    if (!chunk_looks_.present(point, page)) chunk_looks_.blame(point, page, pages);
  });
  while (true) {
    control_.checkpoint();
    try {
      std::optional<Entry> entry = catalog.next();
      if (!entry) return;
      check_entry(verdict, point, *entry);
    } catch (const Error& error) {
      if (!is_damage(verdict, error)) return;
      CatalogReader::Gap gap;
      const bool more = catalog.pass_damage(gap);
      add_affected(verdict, gap.from.absolute(),
                   "the list of files is damaged from here" +
                       (gap.until ? " to " + printable(gap.until->absolute()) : std::string(" on")),
                   std::exchange(pages, {}));
      if (!more) return;
    }
  }
}

void PointCheck::check_entry(PointVerdict& verdict, PointReader& point, const Entry& entry) {
  bool good = true;
  std::uint64_t at = 0;
  std::string where;
  std::set<BadPlaces::Place> places;
  const auto miss = [&](const ChunkRef& ref, const std::string& what) {
    if (good) where = what;
    good = false;
    chunk_looks_.blame(point, ref, places);
  };
  if (entry.attribute_chunk && !chunk_looks_.present(point, *entry.attribute_chunk))
    miss(*entry.attribute_chunk, "its attributes are damaged");
  auto look = [&](const ContentItem& item) {
    if (item.kind != ItemKind::hole && !chunk_looks_.present(point, item.ref()))
      miss(item.ref(), "its content is damaged at byte " + std::to_string(at));
    if (item.kind != ItemKind::list) at += item.length;
  };
  try {
    walk_content(entry.content, point, look, look);
  } catch (const Error& error) {
    if (is_of_the_system(error) || error.kind() == ErrorKind::key) throw;
    if (good) where = "the list of its content is damaged at byte " + std::to_string(at);
    good = false;
  }
  if (!good) add_affected(verdict, entry.path.absolute(), where, places);
  if (good && tally_ != nullptr && verdict.sequence == source_point_) compare_source(point, entry);
}

// Its pieces were read and have their names: so the file need only be compared with these.
void PointCheck::compare_source(PointReader& point, const Entry& entry) {
  if (entry.type != EntryType::file || entry.incomplete) return;
  SourceTally& tally = *tally_;
  const Today today = today_.look(entry);
  if (today == Today::gone) ++tally.gone;
  if (today == Today::differs) ++tally.changed;
  if (today == Today::unknown) ++tally.unread;
  if (today != Today::same) return;
  const FileHandle file = today_.open(entry);
  if (!file) {
    ++tally.unread;
  } else if (same_content(point, entry, file.get(), control_)) {
    ++tally.same;
  } else if (today_.look(entry) != Today::same) {
    ++tally.changed;  // just now
  } else if (tally.wrong++ < listed_files) {
    tally.wrong_paths.push_back(entry.path.absolute());
  }
}

}  // namespace kestrum
