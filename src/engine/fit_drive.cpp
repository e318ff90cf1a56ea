#include "engine/fit_drive.hpp"

#include "base/text.hpp"
#include "engine/size_estimate.hpp"

namespace kestrum {

FitDrive::FitDrive(const Job& job, Destination& destination, JobState& state, KeyRing& keys, Ledger* ledger,
                   const RunContext& context, const JobLock& lock,
                   std::function<void(const UpkeepResult&)> made_room)
    : job_(job),
      destination_(destination),
      context_(context),
      upkeep_(job, destination, state, keys, ledger, context, &lock),
      store_(*destination.store),
      made_room_(std::move(made_room)) {}

// The walk is only worth its time where the sources as they are would not fit.
std::uint64_t FitDrive::first_full(const Selection& selection, std::int64_t room) {
  FilesystemTable filesystems;
  Walker walker(
      selection, filesystems, [](const Problem&) {}, [](const std::string&) {});
  SizeSampler sampler;
  std::uint64_t bytes = 0;
  while (const Walked* found = walker.next()) {
    check_stop(context_.observer);
    if (!S_ISREG(found->status.st_mode) && !found->device) continue;
    std::uint64_t size = static_cast<std::uint64_t>(found->status.st_size);
    bytes += size;
    sampler.offer(found->path, size);
  }
  if (room > 0 && bytes <= static_cast<std::uint64_t>(room)) return 0;
  Naming naming(SecretKey::random());
  return sampler.estimate(job_.level, naming, nullptr, context_.observer).stored_bytes;
}

UpkeepResult FitDrive::make_room(std::uint64_t bytes) {
  UpkeepResult result = upkeep_.prune(bytes);
  freed_ += result.freed_bytes;
  made_room_(result);
  return result;
}

bool FitDrive::before(Kind kind, const std::vector<ChainSet>& sets, const Selection& selection) {
  SpaceNeed need = space_need(kind, sets);
  std::int64_t room = upkeep_.room();
  if (sets.empty() && !sampled_) {
    sampled_ = true;
    need = {first_full(selection, room), true};
  }
  auto fits = [&](std::uint64_t bytes) { return room > 0 && bytes <= static_cast<std::uint64_t>(room); };
  std::uint64_t wanted = std::max(need.bytes, needed_);
  if (!fits(wanted)) {
    if (!make_room(wanted).nothing()) return true;
    // Where the estimate may be wrong the attempt tells; nothing is lost by it.
    if ((need.sure && !fits(need.bytes)) || room <= 0) refuse(need.bytes, "");
  }
  const KeepRules rules = acting_rules(job_.keep);
  std::string limit = "the limit of the job";
  if (rules.drive_limit) limit = "the limit of " + std::to_string(*rules.drive_limit) + "% of the drive";
  store_.allow(static_cast<std::uint64_t>(std::max<std::int64_t>(room, 0)), limit);
  return false;
}

void FitDrive::during(const Error& error) {
  if (!store_.was_full()) throw error;
  context_.observer.note(std::string("the drive is full: ") + error.what());
  // It takes more than that, nobody knows how much: a guess, which refuses nothing.
  needed_ = store_.written() + store_.written() / 4 + (1u << 20);
  if (make_room(needed_).nothing()) refuse(needed_, "at least ");
}

void FitDrive::refuse(std::uint64_t needed, const std::string& at_least) {
  KeepQuestion asked = upkeep_.question();
  std::uint64_t held = 0;
  for (const KeptSet& set : asked.sets) held += set.facts.totals.stored_bytes;
  std::int64_t room = room_left(acting_rules(job_.keep), held, asked.total, asked.free);
  std::string within = room < static_cast<std::int64_t>(asked.free) ? " within the limits of [keep]" : "";
  std::string message = "the drive " + printable(destination_.root) + " is full: ";
  if (needed > 0) message += "the set needs " + at_least + size_text(needed) + ", and ";
  message += size_text(static_cast<std::uint64_t>(std::max<std::int64_t>(room, 0))) + " are free" + within;
  if (freed_ > 0) message += " after " + size_text(freed_) + " were freed";
  if (!asked.sets.empty())
    message += "; the " + count_text(asked.sets.size(), "point") + " that must stay " +
               (asked.sets.size() == 1 ? "holds " : "hold ") + size_text(held);
  std::vector<std::string> helps;
  helps.emplace_back("use a larger drive");
  if (!within.empty()) helps.emplace_back("raise the limits in [keep]");
  if (asked.rules.at_least > 1 && asked.sets.size() > 1)
    helps.emplace_back("lower [keep] at-least, now " + count_text(asked.rules.at_least, "point"));
  if (job_.use != UseOf::next_when_full)
    helps.emplace_back("add a drive with [where] use = \"next when full\"");
  throw Error(ErrorKind::full, message, "what would help: " + join(helps, ", or "));
}

}  // namespace kestrum
