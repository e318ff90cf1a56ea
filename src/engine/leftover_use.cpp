#include "engine/leftover_use.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "engine/each_drive.hpp"

namespace kestrum {

namespace {

std::optional<unsigned> percent_of(const LeftProgress& progress) {
  if (progress.expected_bytes == 0) return std::nullopt;
  constexpr unsigned most = 99;  // it is not finished
  const double share = static_cast<double>(progress.bytes) / static_cast<double>(progress.expected_bytes);
  return std::min(most, static_cast<unsigned>(share * 100));
}

const DriveState* remembered(const LookSession& session) {
  const std::optional<DriveIdentity>& drive = session.destination().drive;
  return session.state() && drive ? session.state()->drive(drive->id) : nullptr;
}

}  // namespace

std::string too_old(const Leftover& leftover, Instant now) {
  constexpr std::int64_t longest = std::int64_t{30} * 24 * 3600;  // seconds
  if (now.seconds - leftover.mark.started.seconds <= longest) return {};
  return "it was begun on " + local_text(leftover.mark.started) + ", which is too long ago";
}

std::string no_use(const Leftover& leftover, const LookSession& session) {
  if (leftover.folder.removing || leftover.bytes == 0) return "nothing was finished of it";
  if (leftover.mark.job != session.identity().job) return "it is another job's";
  for (const FoundSet& set : session.sets()) {
    if (set.folder.sequence > leftover.folder.sequence) return "another one was begun after it";
    if (set.folder.sequence == leftover.folder.sequence && set.sealed()) return "that point is there";
  }
  return {};
}

std::optional<Leftover> leftover_of(const LookSession& session) {
  if (!session.has_identity()) return std::nullopt;
  const Store& store = session.store();
  std::optional<Leftover> found;
  for (const SetFolder& folder : list_set_folders(store, session.folder(), nullptr)) {
    const bool marked = folder.unfinished || store.exists(folder.path + "/" + unfinished_file);
    if (!marked || !folder.named_by_rule) continue;
    std::optional<Leftover> left = find_leftover(store, folder);
    if (left && no_use(*left, session).empty()) found = std::move(left);
  }
  return found;
}

std::optional<Leftover> leftover_that_reads(const LookSession& session) {
  try {
    return leftover_of(session);
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return std::nullopt;
  }
}

std::optional<LeftPoint> left_point(const LookSession& session) {
  const std::optional<Leftover> left = leftover_that_reads(session);
  if (!left) return std::nullopt;
  LeftPoint point{left->mark.sequence, left->mark.started, left->bytes, {}};
  const DriveState* const known = remembered(session);
  if (known != nullptr && known->left.sequence == point.sequence) point.percent = percent_of(known->left);
  return point;
}

std::optional<LeftPoint> left_point(const DriveState& drive) {
  if (drive.left.sequence == 0) return std::nullopt;
  return LeftPoint{drive.left.sequence, {}, 0, percent_of(drive.left)};
}

std::string left_text(const LeftPoint& left) {
  std::string text = "point " + std::to_string(left.sequence) + " is not finished: ";
  text += left.percent ? std::to_string(*left.percent) + " % of it" : std::string("a part of it");
  if (left.bytes > 0) text += " (" + size_text(left.bytes) + ")";
  text += " lies there";
  if (left.bytes > 0) text += ", begun on " + weekday_text(left.begun) + " " + local_text(left.begun);
  return text;
}

std::string left_advice(const std::string& job) {
  return "the next run goes on with it; to clear it: kestrum stop " + shell_word(printable(job)) +
         " --discard";
}

std::vector<Leftover> discard_leftovers(const std::string& job, const RunContext& context) {
  std::vector<Leftover> cleared;
  EachDrive drives(job, context);
  drives.visit([&](LookSession found) {
    WriteSession session(std::move(found), context);
    std::optional<Leftover> left = leftover_of(session);
    if (!left) return;
    session.clear_leftover("as asked");
    cleared.push_back(std::move(*left));
  });
  return cleared;
}

}  // namespace kestrum
