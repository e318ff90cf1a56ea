#include "engine/guard.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "base/file_handle.hpp"
#include "base/text.hpp"
#include "engine/look.hpp"
#include "engine/run_facts.hpp"

namespace kestrum {
namespace {

constexpr std::size_t most_history = 60;  // points

bool is_suspect(const FoundSet& set) {
  return set.sealed() && set.facts().guard == GuardMark::suspect;
}

std::optional<SetFacts> trusted_facts(const SetList& sets) {
  const FoundSet* const trusted = sets.newest_trusted();
  return trusted != nullptr ? std::optional(trusted->facts()) : std::nullopt;
}

// Rows of what looks like somebody's accounts.
std::string bait_text() {
  std::string text = "date;item;paid;left\n";
  constexpr int rows = 200;
  for (int row = 1; row <= rows; ++row) {
    text += "2026-" + std::to_string(1 + row % 12) + "-" + std::to_string(1 + row % 28) + ";item " +
            std::to_string(row) + ";" + std::to_string(row * 37 % 900) + ".00;" +
            std::to_string(row * 91 % 9000) + ".00\n";
  }
  return text;
}

// Its folder's owner owns it.
void make_bait(const std::string& path) {
  create_file(path, as_bytes(bait_text()), 0644);
  struct stat folder {};
  if (stat(path.substr(0, path.rfind('/') + 1).c_str(), &folder) == 0 &&
      lchown(path.c_str(), folder.st_uid, folder.st_gid) != 0 && errno != EPERM)
    throw system_error("change the owner of", path, errno);
}

bool has_path(PointReader& point, const TreePath& path) {
  CatalogReader list(point, point.set().root().catalog);
  list.seek(path);
  const std::optional<Entry> next = list.next();
  return next && next->path == path;
}

DoubtedPoint doubted(const FoundSet& set, ChainReader& chain) {
  DoubtedPoint point{.facts = set.facts(), .evidence = {}, .examples = {}, .unread = {}};
  try {
    PointReader reader(chain, set.folder.sequence);
    RunRecord record = decode_run_record(reader.fetch(reader.set().root().record));
    point.evidence = std::move(record.evidence);
    point.examples = std::move(record.examples);
  } catch (const Error& error) {
    point.unread = error.what();
  }
  return point;
}

}  // namespace

static std::size_t count_suspect(const SetList& sets) {
  std::size_t count = 0;
  for (const FoundSet& set : sets) count += is_suspect(set) ? 1 : 0;
  return count;
}

bool any_suspect(const SetList& sets) {
  return count_suspect(sets) > 0;
}

std::string passed_over(const SetList& sets, const PointWish& wish) {
  if (wish.by == PointWish::By::number) return {};
  const FoundSet* nearer = nullptr;
  for (const FoundSet& set : sets) {
    if (!set.sealed() || set.facts().standing.given_up()) continue;
    if (wish.by == PointWish::By::moment && wish.moment < set.facts().started) continue;
    if (!set.facts().doubted()) nearer = nullptr;
    if (is_suspect(set)) nearer = &set;
  }
  if (nearer == nullptr) return {};
  return "point " + point_text(nearer->facts()) +
         " is newer, and suspect: it is passed over, unless it is named by "
         "its number";
}

GuardSetup guard_setup(const SetList& sets, const KindDecision& decision, const Job& job) {
  const FoundSet& reference = *sets.newest_trusted();
  GuardSetup setup;
  setup.reference = reference.folder.sequence;
  setup.is_base = decision.base == setup.reference;
  for (const std::string& file : job.bait) {
    if (std::optional<TreePath> path = TreePath::parse(file)) setup.bait.push_back(std::move(*path));
  }
  for (const FoundSet& set : sets) {
    if (set.sealed() && !set.facts().doubted()) setup.before.push_back(set.facts().totals);
  }
  if (setup.before.size() > most_history)
    setup.before.erase(setup.before.begin(), setup.before.end() - most_history);
  return setup;
}

std::vector<std::string> set_bait_out(const Job& job, ChainReader& chain, Sequence reference) {
  std::vector<std::string> notes;
  std::optional<PointReader> point;
  for (const std::string& file : job.bait) {
    try {
      const std::optional<TreePath> path = TreePath::parse(file);
      struct stat status {};
      const bool there = lstat(file.c_str(), &status) == 0;
      if (reference != 0 && !point) point.emplace(chain, reference);
      const bool known = point && path && has_path(*point, *path);
      if (there && point && !known)
        notes.push_back("the bait file " + printable(file) +
                        " is not among what the job saves, or was not yet");
      if (!there && !known) make_bait(file);
    } catch (const Error& error) {
      notes.push_back("the bait file " + printable(file) + ": " + error.what());
    }
  }
  return notes;
}

Error suspect_error(const std::string& job, const SetList& sets, Sequence point,
                    const std::vector<EvidenceLine>& evidence) {
  std::vector<std::string> texts;
  for (const EvidenceLine& line : evidence) texts.push_back(evidence_text(line));
  const std::optional<SetFacts> trusted = trusted_facts(sets);
  return {ErrorKind::suspect, "point " + std::to_string(point) + " is suspect: " + join(texts, "; "),
          "look before anything else: kestrum guard " + shell_word(printable(job)) +
              (trusted ? "; the newest point that nobody doubts is " + point_text(*trusted) : std::string())};
}

std::size_t GuardLook::suspect() const {
  return static_cast<std::size_t>(std::count_if(points.begin(), points.end(), [](const DoubtedPoint& point) {
    return point.facts.guard == GuardMark::suspect;
  }));
}

std::vector<GuardLook> look_at_guard(const std::string& job, const RunContext& context) {
  std::vector<GuardLook> out;
  EachDrive drives(job, context);
  drives.visit([&](LookSession session) {
    GuardLook look{.drive = session.drive_name(), .root = session.root(), .newest_trusted = {}, .points = {}};
    const SetList& sets = session.proved_sets();
    look.newest_trusted = trusted_facts(sets);
    ChainReader chain(session.store(), sets, session.keys());
    for (const FoundSet& set : sets) {
      if (set.sealed() && set.facts().doubted()) look.points.push_back(doubted(set, chain));
    }
    out.push_back(std::move(look));
  });
  return out;
}

namespace {

// The points that a verdict on one of them holds for.
std::vector<Sequence> held_for(const SetList& sets, Sequence point, bool trusted) {
  const FoundSet* const chosen = sets.sealed(point);
  if (chosen == nullptr || !chosen->facts().doubted())
    throw Error(ErrorKind::usage, "point " + std::to_string(point) + " is not suspect",
                "see which points are, and why: kestrum guard JOB");
  std::vector<Sequence> points;
  for (const FoundSet& set : sets) {
    const bool with_it = trusted ? set.folder.sequence < point : set.folder.sequence > point;
    if (set.folder.sequence == point || (with_it && is_suspect(set))) points.push_back(set.folder.sequence);
  }
  return points;
}

}  // namespace

GuardVerdict pass_verdict(const std::string& job, const std::string& point, bool trusted,
                          const RunContext& context) {
  EachDrive drives(job, context);
  std::vector<LookSession> sessions;
  drives.visit([&](LookSession found) { sessions.push_back(std::move(found)); });
  const DrivePoint at = choose_drive(sessions, point, context.clock.now());
  LookSession& session = sessions[at.session];
  const Sequence chosen = choose_point(session.sets(), at.wish).folder.sequence;
  held_for(session.sets(), chosen, trusted);
  GuardVerdict verdict{.drive = session.drive_name(), .points = {}, .newest_trusted = {}};
  drives.change_one(std::move(session), [&](WriteSession& open) {
    verdict.points = held_for(open.sets(), chosen, trusted);
    // So that what is left, should this be broken off, is still held.
    if (!trusted) std::reverse(verdict.points.begin(), verdict.points.end());
    for (const Sequence one : verdict.points)
      open.regard(*open.sets().sealed(one), trusted ? GuardMark::trusted : GuardMark::rejected);
    std::sort(verdict.points.begin(), verdict.points.end());
    verdict.newest_trusted = trusted_facts(open.sets());
    verdict.suspect_left = count_suspect(open.sets());
  });
  return verdict;
}

}  // namespace kestrum
