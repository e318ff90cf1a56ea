#include "engine/drill_trials.hpp"

#include <algorithm>
#include <filesystem>

#include "archive/lost_seals.hpp"
#include "archive/mending.hpp"
#include "base/text.hpp"
#include "engine/job_rebuild.hpp"
#include "job/job_edit.hpp"

namespace kestrum {
namespace {

// Each of them alone would do.
RebuildTrial try_seals(LookSession& subject) {
  RebuildTrial trial{"a lost seal, from its copy", true, {}};
  std::size_t good = 0;
  std::string first;
  for (const FoundSet& set : subject.proved_sets()) {
    if (!set.sealed() || set.not_ours || set.twice) continue;
    std::string trouble = set.findings.empty() ? "" : set.findings.front();
    try {
      const SecretKey master = subject.keys().unlock(set.seal->keys, set.facts().chain);
      if (trouble.empty() && !seal_is_authentic(*set.seal, master))
        trouble = "its seal was not written with its key";
    } catch (const Error& error) {
      trouble = error.what();
    }
    good += trouble.empty() ? 1 : 0;
    if (first.empty() && !trouble.empty())
      first = "set " + std::to_string(set.folder.sequence) + ": " + trouble;
  }
  trial.good = first.empty();
  trial.words =
      first.empty() ? "both seals of " + count_text(good, "set") + " read, are the same, and open" : first;
  return trial;
}

std::vector<IndexRecord> records_of_index(SetReader& set) {
  std::vector<IndexRecord> records;
  set.each_record([&](const IndexRecord& record) { records.push_back(record); });
  return records;
}

bool comes_before(const IndexRecord& one, const IndexRecord& other) {
  return std::tie(one.name, one.slot, one.frame.offset, one.offset) <
         std::tie(other.name, other.slot, other.frame.offset, other.offset);
}

bool is_same(const IndexRecord& one, const IndexRecord& other) {
  return !comes_before(one, other) && !comes_before(other, one) && one.frame.size == other.frame.size &&
         one.length == other.length;
}

RebuildTrial try_index(OpenPoint& point, RunControl& control) {
  SetReader& set = point.reader().set();
  RebuildTrial trial{"a lost index, from its volumes", true, {}};
  std::vector<IndexRecord> known = records_of_index(set);
  std::vector<IndexRecord> made = records_of_volumes(set, [&](std::uint64_t) { control.checkpoint(); });
  std::sort(known.begin(), known.end(), comes_before);
  std::sort(made.begin(), made.end(), comes_before);
  trial.good = std::equal(known.begin(), known.end(), made.begin(), made.end(), is_same);
  trial.words = trial.good ? "the volumes of set " + std::to_string(set.facts().sequence) +
                                 " give all of its " + count_text(known.size(), "record")
                           : "the volumes of set " + std::to_string(set.facts().sequence) + " give " +
                                 count_text(made.size(), "record") + ", its index has " +
                                 grouped(known.size()) + ", and they are not the same";
  return trial;
}

// As if neither of its seals were there: what comes of the rest of it is held against them. Nothing where no
// set is there that it could be tried with.
std::optional<RebuildTrial> try_without_seals(LookSession& subject, RunControl& control) {
  RebuildTrial trial{"a set of which both seals are lost, from the rest of it", false, {}};
  const SetList& sets = subject.proved_sets();
  for (std::size_t i = sets.size(); i-- > 0;) {
    const FoundSet& set = sets[i];
    if (!set.sealed() || set.not_ours || set.twice || set.facts().folded_from || !set.seal->replaced.empty())
      continue;
    const SecretKey master = subject.keys().unlock(set.seal->keys, set.facts().chain);
    const Seal made = seal_anew(subject.store(), set.folder, sets, set, master,
                                [&](std::uint64_t) { control.checkpoint(); });
    const Root was = unbox_root(*set.seal, master), is = unbox_root(made, master);
    trial.good = made.core.facts.set == set.facts().set && is.catalog.page.name == was.catalog.page.name &&
                 std::equal(made.core.files.begin(), made.core.files.end(), set.seal->core.files.begin(),
                            set.seal->core.files.end(), [](const SealedFile& one, const SealedFile& other) {
                              return one.slot == other.slot && one.digest == other.digest;
                            });
    trial.words = "what set " + std::to_string(set.folder.sequence) + " tells without them is " +
                  (trial.good ? "the same" : "something else");
    return trial;
  }
  return std::nullopt;
}

RebuildTrial try_home(LookSession& subject, const std::string& scratch) {
  RebuildTrial trial{"a lost home: the job's file, its memory and its history", true, {}};
  const std::string folder = scratch + "/home";
  std::filesystem::create_directories(folder + "/config");
  const Home home(folder + "/config", folder + "/state");
  const std::string name = subject.job() ? subject.job()->name : subject.identity().name;
  const JobOnDrive found = job_on_drive(subject, name);
  // Files outside of the folder are not for a trial to write.
  RebuildHere here;
  if (found.job.given.contains({"protect", "recovery-key"}))
    here.changes.push_back({find_job_key("protect", "recovery-key"), std::nullopt});
  const Rebuilt rebuilt = rebuild_job(home, found, file_for_here(found, subject, here).text, subject);
  const Job job = home.load_job(name);
  trial.good = rebuilt.troubles.empty() && home.load_state(name).has_value();
  trial.words = trial.good ? "'" + printable(job.name) + "' came back from point " +
                                 std::to_string(found.point.sequence) + ", with " +
                                 count_text(rebuilt.points, "point") + " in its history"
                : rebuilt.troubles.empty() ? std::string("what the machine remembers of it did not come back")
                                           : rebuilt.troubles.front();
  return trial;
}

}  // namespace

std::vector<RebuildTrial> try_rebuilding(LookSession& subject, OpenPoint& point, const std::string& scratch,
                                         RunControl& control) {
  std::vector<RebuildTrial> trials;
  const auto add = [&](const char* what, const auto& attempt) {
    try {
      if (std::optional<RebuildTrial> trial = attempt()) trials.push_back(std::move(*trial));
    } catch (const Error& error) {
      trials.push_back({what, false, error.what()});
    }
  };
  add("a lost seal, from its copy", [&] { return try_seals(subject); });
  add("a set of which both seals are lost, from the rest of it",
      [&] { return try_without_seals(subject, control); });
  add("a lost index, from its volumes", [&] { return try_index(point, control); });
  add("a lost home", [&] { return try_home(subject, scratch); });
  return trials;
}

}  // namespace kestrum
