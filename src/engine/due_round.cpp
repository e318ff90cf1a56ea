#include "engine/due_round.hpp"

#include "base/exit_codes.hpp"
#include "engine/agent_seat.hpp"
#include "engine/check_desk.hpp"
#include "engine/job_drill.hpp"

namespace kestrum {
namespace {

std::set<std::string> running_jobs(DueDesk& desk) {
  std::set<std::string> going;
  for (const RunEntry& run : desk.ledger().unended_runs()) going.insert(run.job);
  return going;
}

// False: it was stopped.
bool check_due(DueDesk& desk, CheckKind kind, const RunContext& context, std::vector<JobCheck>& done) {
  CheckDesk checks(context, kind);
  checks.read_jobs(desk);
  while (true) {
    const std::vector<std::string> names = checks.decide(desk, {}, running_jobs(desk), 1);
    if (names.empty()) return true;
    checks.began(names[0]);
    done.push_back(kind == CheckKind::drill ? drill_job(names[0], context).entry
                                            : check_job(names[0], context).entry);
    checks.ended(names[0], done.back().exit_code);
    if (done.back().exit_code == exit_code_of(ErrorKind::stopped)) return false;
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
  goes_on = goes_on && check_due(desk, CheckKind::check, context, round.checks);
  if (goes_on) check_due(desk, CheckKind::drill, context, round.checks);
  round.waits = desk.waits();
  return round;
}

}  // namespace kestrum
