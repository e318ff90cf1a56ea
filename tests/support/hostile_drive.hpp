// An encrypted job, and somebody who can write its drive.
#pragma once

#include <gtest/gtest.h>
#include <sys/stat.h>

#include "archive/set_folder.hpp"
#include "support/forged_set.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {

// An encrypted job with points 1 and 2, and somebody who can write its drive.
class HostileDrive : public testing::Test {
 protected:
  HostileDrive() : bench_(settings("tern in the fog\n")) {
    write_file(bench_.source() + "/ringing.csv", "one");
    bench_.run_good();
    write_file(bench_.source() + "/ringing.csv", "two");
    bench_.run_good();
    job_ = bench_.home().load_state("job")->job;
  }

  std::string settings(const std::string& passphrase) {
    write_file(folder_ / "pass", passphrase);
    chmod((folder_ / "pass").c_str(), 0600);
    return "[protect]\npassphrase = \"file:" + (folder_ / "pass") + "\"\n[keep]\npoints = \"100 points\"\n";
  }
  std::unique_ptr<Store> drive() const { return open_local_store(bench_.drive()); }
  std::string job_folder() const { return bench_.subject().folder(); }

  ForgedSet forged(Sequence sequence) const {
    ForgedSet set;
    set.job = job_;
    set.facts.sequence = sequence;
    set.entries = {forged_folder(bench_.source()), forged_file(bench_.source() + "/ringing.csv", "forged")};
    // The folders above, as a run lists them.
    TreePath at;
    std::vector<ForgedEntry> above;
    for (const std::string& name : TreePath::parse(bench_.source())->parent().components()) {
      at = at.child(name);
      above.push_back(forged_folder(at.absolute()));
      above.back().entry.above_source = true;
    }
    set.entries.insert(set.entries.begin(), above.begin(), above.end());
    return set;
  }
  // One that a key of the forger's opens and nothing of the owner's.
  ForgedSet locked(Sequence sequence) const {
    ForgedSet set = forged(sequence);
    set.keys = {make_passphrase_entry(set.master, set.facts.chain, "the planter's", {8, 1})};
    return set;
  }
  void plant(const ForgedSet& set) { forge(*drive(), job_folder(), set); }

  std::string content_of(Sequence sequence) { return bench_.restored(sequence).at("ringing.csv").content; }
  // What the point holds that "latest" means.
  std::string newest_content() {
    std::filesystem::remove_all(folder_ / "latest");
    bench_.restore_to(folder_ / "latest");
    return read_file((folder_ / "latest") + "/source/ringing.csv");
  }
  Seal seal_of(Sequence sequence) const {
    std::string path = bench_.set_folder(sequence).substr(bench_.drive().size() + 1);
    return seal_in(*drive(), path);
  }
  std::vector<std::string> findings() const { return list_points(bench_.subject(), nullptr).findings; }

  TempFolder folder_;
  Workbench bench_;
  Id job_{};
};

}  // namespace kestrum::test
