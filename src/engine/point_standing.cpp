#include "engine/point_standing.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "engine/each_drive.hpp"
#include "engine/gone_points.hpp"
#include "engine/look.hpp"
#include "plan/plan_words.hpp"

namespace kestrum {

std::string exactly(const PointSaid& point) {
  return point.drive + ":" + std::to_string(point.facts.sequence);
}

namespace {

// A point on one of the job's drives, before it is changed.
struct Chosen {
  LookSession session;
  Sequence point = 0;
};

Chosen choose(EachDrive& drives, const std::string& wanted) {
  std::vector<LookSession> sessions;
  drives.visit([&](LookSession found) { sessions.push_back(std::move(found)); });
  DrivePoint at = choose_drive(sessions, wanted, drives.context.clock.now());
  LookSession& session = sessions[at.session];
  Sequence point = choose_point(session.sets(), at.wish).folder.sequence;
  return {std::move(session), point};
}

PointSaid said_of(const LookSession& session, const PointInfo& info) {
  return {session.drive_name(), session.root(), info.facts, info.health};
}

PointSaid said_of(const LookSession& session, Sequence point, History& history) {
  for (const PointInfo& info : own_points(session, &history)) {
    if (info.sealed && info.sequence == point) return said_of(session, info);
  }
  throw Error(ErrorKind::failed, "point " + std::to_string(point) + " was removed meanwhile",
              "see which points there are now, with: kestrum points");
}

void check_text(const std::string& because) {
  if (because.size() > longest_because)
    throw Error(ErrorKind::usage,
                "the reason is " + std::to_string(because.size()) + " bytes long, and " +
                    std::to_string(longest_because) + " are kept",
                "say it shorter");
}

Standing standing_now(Standing::Is is, const std::string& because, const RunContext& context) {
  if (is == Standing::Is::by_rules) return {};
  return {is, to_utf8(because), {context.clock.now().seconds, 0}};
}

bool same(const Standing& a, const Standing& b) {
  return a.is == b.is && a.because == b.because;
}

// A seal is written with its chain's key. Throws key where the passphrase at hand does not open it.
const FoundSet& openable(const SetList& sets, Sequence point) {
  return choose_point(sets, {PointWish::By::number, point, {}});
}

KeptOutcome restate(const std::string& job, const std::string& point, const Standing& standing,
                    const RunContext& context) {
  EachDrive drives(job, context);
  Chosen chosen = choose(drives, point);
  KeptOutcome outcome;
  drives.change_one(std::move(chosen.session), [&](WriteSession& session) {
    outcome.now = said_of(session, chosen.point, drives.history);
    outcome.changed = !same(outcome.now.facts.standing, standing);
    if (!outcome.changed) return;
    session.restate(openable(session.sets(), chosen.point), standing);
    outcome.now.facts.standing = standing;
  });
  return outcome;
}

DropOutlook outlook(const LookSession& session, Sequence point, History& history, KeepQuestion question) {
  DropOutlook out;
  out.point = said_of(session, point, history);
  if (out.point.facts.standing.kept())
    throw Error(ErrorKind::usage,
                "point " + std::to_string(point) + " is " + standing_text(out.point.facts.standing),
                "if that does not hold any more: kestrum keep " + shell_word(printable(session.job()->name)) +
                    " " + exactly(out.point) + " --no-longer");
  const KeepPlan by_rules = plan_keep(question);
  out.floor = by_rules.rules.at_least;
  std::size_t place = 0;
  for (std::size_t i = 0; i < question.sets.size(); ++i) {
    KeptSet& set = question.sets[i];
    if (set.facts.sequence == point) {
      place = i;
      set.facts.standing.is = Standing::Is::given_up;
      const Promise& promise = by_rules.fates[i].promise;
      if (promise.made() && promise.by != Promise::By::no_rule)
        out.wanted_by = rule_text(promise, by_rules.rules);
    }
    out.good_left += set.counts() ? 1 : 0;
  }
  if (out.good_left == 0)
    throw Error(ErrorKind::failed, "point " + std::to_string(point) + " is the only good one",
                "make another one first: kestrum run " + shell_word(printable(session.job()->name)));
  const KeepPlan plan = plan_keep(only_given_up(std::move(question)));
  out.fate = plan.fates[place];
  if (out.fate.fate == Fate::stays) out.why_stays = needed_text(out.fate.reason);
  return out;
}

}  // namespace

std::vector<PointSaid> points_said(const std::string& job, const RunContext& context) {
  std::vector<PointSaid> out;
  EachDrive drives(job, context);
  drives.visit([&](LookSession session) {
    const bool proved = session.prove_at_hand();
    for (const PointInfo& info : own_points(session, &drives.history)) {
      if (!info.sealed || info.facts.standing.is == Standing::Is::by_rules) continue;
      out.push_back(said_of(session, info));
      out.back().proved = proved;
    }
  });
  return out;
}

KeptOutcome keep_point(const std::string& job, const std::string& point, const std::string& because,
                       const RunContext& context) {
  check_text(because);
  return restate(job, point, standing_now(Standing::Is::kept, because, context), context);
}

KeptOutcome leave_point_to_rules(const std::string& job, const std::string& point,
                                 const RunContext& context) {
  return restate(job, point, {}, context);
}

std::optional<KnownPoint> drop_gone_point(const std::string& job, const std::string& point,
                                          const RunContext& context) {
  EachDrive drives(job, context);
  std::optional<KnownPoint> found;
  drives.visit([&](const LookSession& session) {
    const std::string drive = session.drive_name() + ":";
    const std::string number = point.starts_with(drive) ? point.substr(drive.size()) : point;
    for (const KnownPoint& gone : gone_points(session)) {
      if (std::to_string(gone.sequence) == number && !found) found = gone;
    }
  });
  if (found) let_be_gone(drives.history, {*found}, context.clock.now());
  if (drives.history.trouble()) throw *drives.history.trouble();
  return found;
}

DropOutlook look_at_drop(const std::string& job, const std::string& point, const RunContext& context) {
  EachDrive drives(job, context);
  Chosen chosen = choose(drives, point);
  return outlook(chosen.session, chosen.point, drives.history,
                 keep_question(chosen.session, drives.history, context));
}

DropOutcome drop_point(const std::string& job, const std::string& point, const std::string& because,
                       const RunContext& context) {
  check_text(because);
  EachDrive drives(job, context);
  Chosen chosen = choose(drives, point);
  DropOutcome outcome;
  drives.change_one(std::move(chosen.session), [&](WriteSession& session) {
    Upkeep upkeep(session, drives.history);
    outcome.before = outlook(session, chosen.point, drives.history, upkeep.question());
    session.restate(openable(session.sets(), chosen.point),
                    standing_now(Standing::Is::given_up, because, context));
    outcome.done = upkeep.let_go_given_up();
    const FoundSet* left = session.sets().sealed(chosen.point);
    outcome.gone = left == nullptr || left->facts().set != outcome.before.point.facts.set;
  });
  return outcome;
}

}  // namespace kestrum
