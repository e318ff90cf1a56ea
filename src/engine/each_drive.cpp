#include "engine/each_drive.hpp"

#include "base/text.hpp"
#include "engine/drive_trouble.hpp"

namespace kestrum {

EachDrive::EachDrive(const std::string& name, const RunContext& given)
    : EachDrive(given.home.load_job(name), given) {}

EachDrive::EachDrive(Job in_force, const RunContext& given)
    : context(given),
      job(std::move(in_force)),
      state(given.home.load_state(job.name)),
      history(History::open(given)),
      keys(job_keys(job, given.ask)) {}

void EachDrive::visit(const std::function<void(LookSession)>& use) {
  std::optional<Error> first;
  bool any = false;
  for (const std::string& named : job.destinations) {
    std::optional<LookSession> session;
    try {
      session.emplace(job, named, state, context, keys);
      if (!session->has_identity() || !session->destination().drive || !state)
        throw Error(ErrorKind::no_destination,
                    "there is no archive set of the job '" + printable(job.name) + "' in " +
                        printable(named) + " yet",
                    "run the job first: kestrum run " + shell_word(printable(job.name)));
    } catch (const Error& error) {
      if (!first) first = error;
      context.observer.note(error.what());
      continue;
    }
    any = true;
    use(std::move(*session));
  }
  if (!any) throw *first;
}

void EachDrive::change(const std::function<void(WriteSession&)>& use) {
  visit([&](LookSession found) { change_one(std::move(found), use); });
}

void EachDrive::change_one(LookSession found, const std::function<void(WriteSession&)>& use) {
  WriteSession session(std::move(found), context);
  try {
    session.prove_sets();
    session.finish_folds();
    use(session);
  } catch (const Error& error) {
    throw seen_with_drive(session.destination(), error);
  }
  if (session.memory_trouble()) context.observer.note(session.memory_trouble()->what());
}

}  // namespace kestrum
