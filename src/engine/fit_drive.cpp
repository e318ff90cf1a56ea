#include "engine/fit_drive.hpp"

#include <sys/stat.h>
#include <sys/statvfs.h>

#include <algorithm>
#include <set>

#include "base/mount_table.hpp"
#include "base/text.hpp"
#include "engine/size_estimate.hpp"

namespace kestrum {
namespace {

// All that lies on the file systems that the walk comes to: more than a set can hold, and known without a
// walk. UINT64_MAX where what is used there says nothing of what files hold.
std::uint64_t most_that_can_be(const Selection& selection) {
  const std::vector<Mount> mounts = read_mount_table();
  std::map<dev_t, std::uint64_t> used;
  bool plain = true;
  auto add = [&](const std::string& path) {
    struct stat status {};
    struct statvfs space {};
    if (stat(path.c_str(), &status) != 0 || statvfs(path.c_str(), &space) != 0) return;
    used[status.st_dev] = std::uint64_t{space.f_blocks - space.f_bfree} * space.f_frsize;
    auto mount = std::find_if(mounts.begin(), mounts.end(),
                              [&](const Mount& one) { return one.device == status.st_dev; });
    static const std::set<std::string> known{"ext2", "ext3", "ext4", "xfs", "tmpfs", "vfat", "exfat"};
    plain = plain && mount != mounts.end() && known.contains(mount->type);
  };
  for (const TreePath& source : selection.sources) {
    add(source.absolute());
    for (const Mount& mount : mounts) {
      std::optional<TreePath> at = TreePath::parse(mount.mount);
      bool kernels = Filesystem{.uuid = {}, .type = mount.type, .source = {}, .mount = {}}.is_kernel_view();
      if (at && selection.mounted_below && at->is_within(source) && !kernels) add(mount.mount);
    }
  }
  std::uint64_t bytes = 0;
  for (const auto& [device, one] : used) bytes += one;
  return plain ? bytes : UINT64_MAX;
}

std::uint64_t held_by(const KeepQuestion& asked) {
  std::uint64_t bytes = 0;
  for (const KeptSet& set : asked.sets) bytes += set.facts.totals.stored_bytes;
  return bytes;
}

// Whether the limits of [keep] leave less room than the drive has.
bool within_limits(const KeepQuestion& asked) {
  std::uint64_t held = held_by(asked);
  return room_left(acting_rules(asked.rules), held, asked.total, asked.free) <
         static_cast<std::int64_t>(asked.free);
}

}  // namespace

FitDrive::FitDrive(WriteSession& session, History& history, bool spare_promises,
                   std::function<void(const UpkeepResult&)> made_room)
    : session_(session),
      context_(session.context()),
      upkeep_(session, history),
      store_(session.store()),
      made_room_(std::move(made_room)) {
  upkeep_.spare_promises(spare_promises);
}

// Counts what the run will go through; `sampler` is offered each file when it is there.
void FitDrive::scan(const Selection& selection, SizeSampler* sampler) {
  context_.observer.phase_begins(Phase::scanning, {});
  FilesystemTable filesystems;
  Walker walker(
      selection, filesystems, [](const Problem&) {}, [](const std::string&) {});
  expected_ = {};
  while (const Walked* found = walker.next()) {
    context_.control.checkpoint();
    if (!found->unlooked.empty()) continue;
    if (!S_ISREG(found->status.st_mode) && !found->device) continue;
    std::uint64_t size = static_cast<std::uint64_t>(found->status.st_size);
    expected_.bytes += size;
    ++expected_.files;
    context_.observer.advanced(size, 1);
    if (sampler != nullptr) sampler->offer(found->path, size);
  }
}

// One walk serves the question whether it fits, and the percentages. It is only worth its time where somebody
// watches, or where the sources as they are might not fit.
std::uint64_t FitDrive::first_full(const Selection& selection, std::int64_t room) {
  bool sure = room > 0 && most_that_can_be(selection) <= static_cast<std::uint64_t>(room);
  if (sure && !context_.observer.wants_totals()) return 0;
  return sampled_full(selection, room);
}

std::uint64_t FitDrive::sampled_full(const Selection& selection, std::int64_t room) {
  SizeSampler sampler;
  scan(selection, &sampler);
  if (room > 0 && expected_.bytes <= static_cast<std::uint64_t>(room)) return 0;
  Naming naming(SecretKey::random());
  return sampler.estimate(session_.own_job().level, naming, nullptr, context_.observer, context_.control)
      .stored_bytes;
}

UpkeepResult FitDrive::make_room(std::uint64_t bytes) {
  UpkeepResult result = upkeep_.prune(bytes);
  freed_ += result.freed_bytes;
  if (!result.late.empty()) late_ = result.late;
  made_room_(result);
  return result;
}

std::string FitDrive::limit_text() const {
  const KeepRules rules = acting_rules(session_.own_job().keep);
  if (rules.drive_limit) return "the limit of " + std::to_string(*rules.drive_limit) + "% of the drive";
  return "the limit of the job";
}

FitDrive::Fit FitDrive::before(Kind kind, const std::vector<ChainSet>& sets, const Selection& selection,
                               bool instead, std::uint64_t left) {
  left_ = left;
  SpaceNeed need = space_need(kind, sets);
  std::int64_t room = upkeep_.room(freed_);
  bool first = !std::exchange(looked_, true);
  if (first && sets.empty()) {
    need = {first_full(selection, room), true};
  } else if (first && context_.observer.wants_totals()) {
    scan(selection, nullptr);
  }
  auto fits = [&](std::uint64_t bytes) {
    return room > 0 && bytes - std::min(bytes, left) <= static_cast<std::uint64_t>(room);
  };
  std::uint64_t wanted = std::max(need.bytes, needed_);
  if (!fits(wanted)) {
    if (!make_room(wanted - std::min(wanted, left)).nothing()) return Fit::decide_anew;
    if (kind == Kind::full && instead) return no_full(wanted);
    // Where the estimate may be wrong the attempt tells; nothing is lost by it.
    if ((need.sure && !fits(need.bytes)) || room <= 0) refuse(need.bytes, "");
  }
  store_.allow(static_cast<std::uint64_t>(std::max<std::int64_t>(room, 0)), limit_text());
  return Fit::yes;
}

FitDrive::Fit FitDrive::no_full(std::uint64_t needed) {
  needed_ = 0;
  context_.observer.note("a full set would take about " + size_text(needed) +
                         ", for which no room can be made: the chain goes on instead");
  return Fit::no_full;
}

FitDrive::Fit FitDrive::during(const Error& error, Kind kind, const Selection& selection, bool instead,
                               std::uint64_t left) {
  if (!store_.was_full()) throw error;
  context_.observer.note(std::string("the drive is full: ") + error.what());
  // It takes more than that. How much, a full set's sample tells; of others nobody knows, and a guess refuses
  // nothing: where it asks for too much, a smaller one follows.
  const std::uint64_t written = left_ + store_.written();
  std::uint64_t guess = written + written / 4 + (1u << 20);
  const std::uint64_t least = written + written / 16 + (256u << 10);
  if (kind == Kind::full) guess = std::max(least, sampled_full(selection, 0));
  for (std::uint64_t needed : {guess, kind == Kind::full ? guess : least}) {
    needed_ = needed;
    if (!make_room(needed - std::min(needed, left)).nothing()) return Fit::decide_anew;
  }
  if (instead) return no_full(guess);
  refuse(needed_, "at least ");
}

// What is free, and what of the job's points stands in the way.
std::string FitDrive::full_text(const KeepQuestion& asked) {
  std::int64_t room = upkeep_.room(freed_);
  std::string text = size_text(static_cast<std::uint64_t>(std::max<std::int64_t>(room, 0))) + " are free";
  if (within_limits(asked)) text += " within the limits of [keep]";
  if (freed_ > 0) text += " after " + size_text(freed_) + " were freed";
  const std::size_t points = asked.sets.size(), floor = asked.rules.at_least;
  std::string hold = (points == 1 ? " holds " : " hold ") + size_text(held_by(asked));
  if (!late_.empty()) return text + "; " + late_;
  if (points == 0) return text;
  if (asked.spare_promises)
    return text + "; the job's " + count_text(points, "point") + hold + ", as its rules want";
  if (points <= floor) return text + "; the " + count_text(points, "point") + " that must stay" + hold;
  return text + "; the job's " + count_text(points, "point") + hold + ", and giving up all but the " +
         count_text(floor, "point") + " that must stay would not be enough";
}

void FitDrive::refuse(std::uint64_t needed, const std::string& at_least) {
  KeepQuestion asked = upkeep_.question();
  std::string message = "the drive " + printable(session_.root()) + " is full: ";
  if (needed > 0) message += "the set needs " + at_least + size_text(needed) + ", and ";
  message += full_text(asked);
  std::vector<std::string> helps;
  if (asked.hold == Hold::suspect_point)
    helps.emplace_back(
        "say what to make of the suspect point, since nothing is let go until then: kestrum guard " +
        shell_word(printable(session_.own_job().name)));
  helps.emplace_back("use a larger drive");
  if (within_limits(asked)) helps.emplace_back("raise the limits in [keep]");
  if (asked.rules.at_least > 1 && asked.sets.size() > 1)
    helps.emplace_back("lower [keep] at-least, now " + count_text(asked.rules.at_least, "point"));
  if (session_.own_job().destinations.size() == 1)
    helps.emplace_back("add a drive with [where] use = \"next when full\"");
  throw Error(ErrorKind::full, message, "what would help: " + join(helps, ", or "));
}

}  // namespace kestrum
