#include "engine/due_round.hpp"

#include "base/exit_codes.hpp"
#include "engine/agent_seat.hpp"
#include "engine/check_desk.hpp"

namespace kestrum {
namespace {

std::set<std::string> running_jobs(DueDesk& desk) {
  std::set<std::string> going;
  for (const RunEntry& run : desk.ledger().unended_runs()) going.insert(run.job);
  return going;
}

void check_due(DueDesk& desk, const RunContext& context, std::vector<JobCheckOutcome>& done) {
  CheckDesk checks(context);
  checks.read_jobs(desk);
  for (bool goes_on = true; goes_on;) {
    const std::vector<std::string> names = checks.decide(desk, {}, running_jobs(desk), 1);
    if (names.empty()) break;
    checks.began(names[0]);
    done.push_back(check_job(names[0], context));
    checks.ended(names[0], done.back().entry.exit_code);
    goes_on = !done.back().error || done.back().error->kind() != ErrorKind::stopped;
  }
}

}  // namespace

DueRound run_due(const RunContext& context, RowListener& listener) {
  const AgentSeat seat(context.home, "run --due", context.clock.now());
  DueDesk desk(context);
  desk.book().give_up_all_starts();
  desk.read_jobs();
  desk.look_after_runs();
  DueRound round;
  bool goes_on = true;
  while (goes_on) {
    desk.notice();
    const std::vector<DueStart> starts = desk.decide({}, running_jobs(desk), 1);
    if (starts.empty()) break;
    goes_on = run_in_row(round.row, starts[0].job, {}, listener, starts[0].start);
    desk.start_ended(starts[0], round.row.outcomes.back().entry.exit_code);
  }
  if (goes_on) check_due(desk, context, round.checks);
  round.waits = desk.waits();
  return round;
}

}  // namespace kestrum
