#include "job/job_edit.hpp"

namespace kestrum {
namespace {

struct Meaning {
  const char* table;
  const char* key;  // "" for all others of the table
  const char* text;
};

constexpr Meaning meanings[] = {
    {"what", "description", "it is shown with the job; nothing else changes"},
    {"what", "",
     "from the next run on, what is chosen newly is saved, and what is not chosen any more counts as gone; "
     "earlier "
     "points keep it"},
    {"where", "same-disk", "nothing is written anew"},
    {"where", "program", "the next run puts it there; one that lies there stays"},
    {"where", "use", "only where the next runs go changes; every drive keeps its points"},
    {"where", "",
     "a drive that is new to the job begins with a full set; the points on one that is not named any more "
     "stay, "
     "and restore by its path"},
    {"when", "", "only when it runs changes; no set is touched, nothing is read again"},
    {"how", "kind", "the next set is of that kind; what is there stays, nothing is stored again for it"},
    {"how", "renew", "only when the next full set comes changes"},
    {"how", "compression",
     "new data is compressed that way; what is stored stays as it is, nothing is read again"},
    {"how", "volume-size", "new data files are of that size; those that are there stay as they are"},
    {"how", "effort", "no set is touched; it holds from the next run on"},
    {"how", "read-limit", "no set is touched; it holds from the next run on"},
    {"how", "write-limit", "no set is touched; it holds from the next run on"},
    {"protect", "encryption",
     "the next run begins a new chain with a full set; earlier chains stay as they are, and open as before"},
    {"protect", "passphrase",
     "it is looked for there from now on, and must be one that opens what is there; to change the passphrase "
     "itself: kestrum passphrase change NAME"},
    {"protect", "passphrase-memory",
     "the next chain is made so; chains that are there get it with: kestrum passphrase change NAME"},
    {"protect", "recovery-key",
     "it holds for the chains that begin from now on; for those that are there: kestrum recovery add|remove "
     "NAME FILE.pub"},
    {"protect", "guard", "it holds from the next run on; points that are suspect stay so"},
    {"protect", "parity", "sets that are written from now on have it; what is stored stays as it is"},
    {"protect", "bait",
     "the next run makes those that are not there; from then on a change of one is suspect"},
    {"keep", "",
     "no set is touched now; the rules hold from the end of the next run on: kestrum prune NAME --dry"},
    {"check", "after-run", "no set is touched; it holds from the next run on"},
    {"check", "drill", "no set is touched; it holds from the next drill on"},
    {"check", "drill-with", "no set is touched; it holds from the next drill on"},
    {"check", "", "no set is touched; it holds from the next check on"},
    {"around", "", "no set is touched; it holds from the next run on"},
    {"tell", "", "no set is touched; it holds from the next run on"},
};

std::string meaning_of(const JobKey& key, const std::string& job) {
  for (const Meaning& one : meanings) {
    if (std::string(one.table) != key.table) continue;
    if (*one.key != '\0' && std::string(one.key) != key.key) continue;
    std::string text = one.text;
    std::size_t name = text.find("NAME");
    return name == std::string::npos ? text : text.replace(name, 4, job);
  }
  return {};
}

}  // namespace

std::vector<std::string> edit_meaning(const Job& before, const Job& after) {
  std::vector<std::string> out;
  for (const JobKey& key : job_keys()) {
    auto old = before.given.find({key.table, key.key});
    auto now = after.given.find({key.table, key.key});
    bool was = old != before.given.end(), is = now != after.given.end();
    if (was == is && (!was || old->second == now->second)) continue;
    out.push_back("[" + std::string(key.table) + "] " + key.key + ": " + meaning_of(key, after.name));
  }
  if (!before.keep.any() && after.keep.any() && !after.keep.any_limit())
    out.emplace_back(
        "[keep] drive-limit: the usual 90% of the drive holds only where [keep] says nothing; to go on with "
        "it: "
        "--keep-drive-limit 90%");
  return out;
}

}  // namespace kestrum
