// The second half of a check: the lists of points are gone through, and whatever they refer to is looked for
// among what the first half has read.
#pragma once

#include "engine/check_sample.hpp"
#include "engine/chunk_looks.hpp"
#include "engine/disk_today.hpp"
#include "engine/verify.hpp"

namespace kestrum {

class PointCheck {
 public:
  // What the sets' own check was about, and what it met.
  struct Met {
    const VerifyRequest& request;
    const CheckSample& sample;
    bool in_parts = false;
    bool damage = false;      // somewhere: every list is gone through then
    bool bad_places = false;  // places of which the system says that they do not read
  };
  // References must outlive this.
  PointCheck(ChainReader& chain, BadPlaces& bad, ChunkLooks& looks, CheckRound& round, const Met& met,
             RunControl& control)
      : chain_(chain), bad_(bad), chunk_looks_(looks), round_(round), met_(met), control_(control) {}
  // What is good of that point is held against the files of this machine.
  void compare_with_disk(Sequence point, SourceTally& tally) {
    source_point_ = point;
    tally_ = &tally;
  }
  // What does not read is a finding of the verdict. Throws Error: key, and what the system could not do;
  // Stopped.
  void go_through(PointVerdict& verdict);

 private:
  bool is_damage(PointVerdict& verdict, const Error& error) const;
  void add_affected(PointVerdict& verdict, std::string path, std::string reason,
                    const std::set<BadPlaces::Place>& places = {});
  bool goes_through_list(const SetFacts& facts);
  void check_record_chunks(PointVerdict& verdict, PointReader& point);
  void check_entries(PointVerdict& verdict, PointReader& point, CatalogReader& catalog);
  void check_entry(PointVerdict& verdict, PointReader& point, const Entry& entry);
  void compare_source(PointReader& point, const Entry& entry);

  ChainReader& chain_;
  BadPlaces& bad_;
  ChunkLooks& chunk_looks_;
  CheckRound& round_;
  const Met met_;
  RunControl& control_;
  Sequence source_point_ = 0;
  SourceTally* tally_ = nullptr;
  DiskToday today_{true};
};

}  // namespace kestrum
