#include "engine/job_check.hpp"

#include "base/exit_codes.hpp"
#include "base/process_identity.hpp"
#include "base/text.hpp"
#include "engine/attachment.hpp"
#include "engine/each_drive.hpp"
#include "engine/effort.hpp"
#include "engine/gentle_context.hpp"
#include "engine/job_in_force.hpp"

namespace kestrum {
namespace {

// What goes wrong with the ledger is not worth a check.
template <typename F>
void with_book(History& history, F&& use) {
  if (history.ledger() == nullptr) return;
  try {
    CheckBook book(*history.ledger());
    use(book);
  } catch (const Error&) {
    // It is told by who keeps the ledger.
  }
}

Job job_to_check(const std::string& name, const RunContext& context) {
  std::optional<Error> trouble;
  std::optional<JobInForce> in_force = job_in_force(context.home, name, &trouble);
  if (!in_force) throw *trouble;
  return in_force->job;
}

void check_drives(const Job& job, const RunContext& context, std::vector<DriveVerdict>& verdicts) {
  Attachment attachment(job, context);
  EachDrive drives(job, context);
  drives.visit([&](LookSession session) {
    VerifyRequest request;
    request.workers = context.workers;
    request.machine = context.machine;
    request.round.budget = budget_of(job.check_budget, context.clock.now());
    DriveVerdict verdict{session.root(), {}};
    verdict.result =
        verify(session, request, context.clock, &drives.history, context.observer, context.control);
    verdicts.push_back(std::move(verdict));
  });
  for (const Problem& problem : attachment.detach())
    context.observer.note(printable(problem.path) + ": " + problem.reason);
}

}  // namespace

CheckBudget budget_of(const CheckLimit& limit, Instant now) {
  CheckBudget budget;
  if (limit.time) budget.time = between(now, after(now, *limit.time));
  budget.bytes = limit.bytes;
  return budget;
}

JobCheck begin_check(const std::string& job, CheckKind kind, History& history, const Clock& clock) {
  JobCheck check{.job = job, .started = clock.now(), .process = ProcessIdentity::own().text(), .kind = kind};
  with_book(history, [&](CheckBook& book) { book.begin(check); });
  return check;
}

void end_check(JobCheck& check, const std::vector<DriveVerdict>& verdicts, const std::optional<Error>& error,
               History& history, const Clock& clock) {
  check.ended = clock.now();
  check.exit_code = verdicts.empty() ? exit_done : exit_code_of(verdicts);
  for (const DriveVerdict& verdict : verdicts) {
    check.bytes += verdict.result.bytes;
    check.left_bytes += verdict.result.left_bytes;
    check.complete = check.complete && verdict.result.complete;
  }
  if (error) {
    check.exit_code = worse_exit(check.exit_code, exit_code_of(error->kind()));
    check.complete = false;
    check.message = error->what();
  }
  end_check(check, history);
}

void end_check(const JobCheck& check, History& history) {
  if (check.id != 0) with_book(history, [&](CheckBook& book) { book.finish(check); });
}

std::string check_text(const JobCheck& check) {
  if (!check.ended) return "goes on, or was cut off";
  if (check.kind == CheckKind::drill) return check.message;
  if (check.exit_code == exit_code_of(ErrorKind::damage))
    return size_text(check.bytes) + " read, damage found";
  if (!check.message.empty()) return check.message;
  if (check.exit_code == exit_code_of(ErrorKind::key))
    return "not every point opens with the passphrase at hand";
  if (check.exit_code != exit_done) return "not everything could be read";
  std::string text = size_text(check.bytes) + " read, all good";
  if (check.left_bytes > 0) text += "; " + size_text(check.left_bytes) + " are left for the next time";
  if (check.complete) text += "; with that everything was read";
  return text;
}

std::optional<Error> with_job_checked(const std::string& name, const RunContext& context,
                                      const std::function<void(const Job&, const RunContext&)>& work) {
  try {
    const Job job = job_to_check(name, context);
    const GentleContext gentle(job, context);
    with_effort(job.effort, [&] { work(job, gentle.context()); });
  } catch (const Error& error) {
    return error;
  } catch (const Stopped& stopped) {
    return stopped_error(stopped);
  }
  return std::nullopt;
}

JobCheckOutcome check_job(const std::string& name, const RunContext& context) {
  History history = History::open(context);
  JobCheckOutcome outcome;
  outcome.entry = begin_check(name, CheckKind::check, history, context.clock);
  outcome.error = with_job_checked(name, context, [&](const Job& job, const RunContext& gentle) {
    check_drives(job, gentle, outcome.verdicts);
  });
  end_check(outcome.entry, outcome.verdicts, outcome.error, history, context.clock);
  return outcome;
}

}  // namespace kestrum
