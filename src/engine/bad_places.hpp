// Places of a drive that do not read, and what each of them means.
#pragma once

#include <set>
#include <unordered_set>

#include "archive/found_set.hpp"
#include "archive/index_record.hpp"

namespace kestrum {

struct BadPlace {
  Sequence set = 0;
  std::string folder, file;  // the set's folder, and its file in there
  std::uint32_t slot = 0;
  std::uint64_t from = 0, to = 0;    // bytes of the file: all frames of which some byte is bad
  bool whole = false;                // nothing of the file is known to be good
  std::optional<Instant> read_well;  // the last time, as far as is remembered
  std::optional<Instant> found;      // the first time that it did not
  std::uint64_t files = 0;           // that cannot be restored as they were because of it, each path once
  std::set<Sequence> points;         // at which that is so
  std::uint64_t bytes() const { return to - from; }
};

// Gathers them while sets are checked, and then what refers to them.
class BadPlaces {
 public:
  using Place = std::size_t;
  // A file of which nothing is good, or a frame of one (with its offset).
  Place add(const FoundSet& set, std::uint32_t slot, std::optional<std::uint64_t> frame);
  std::optional<Place> at(Sequence set, std::uint32_t slot, std::uint64_t frame) const;
  // How far the frame goes, as the index has it.
  void extends(Place place, std::uint32_t size);
  void since(Place place, std::optional<Instant> read_well, std::optional<Instant> found);
  void affects(const std::set<Place>& places, Sequence point, const std::string& path);
  const BadPlace& operator[](Place place) const { return places_[place].facts; }
  bool empty() const { return places_.empty(); }

  // Frames that follow each other are one place, the ones that mean most come first. `number` has for each
  // Place of before where it is among them.
  std::vector<BadPlace> merged(std::vector<std::size_t>& number) const;

 private:
  struct Known {
    BadPlace facts;
    std::unordered_set<std::size_t> paths;  // hashes
  };
  std::vector<Known> places_;
  std::map<std::tuple<Sequence, std::uint32_t, std::uint64_t>, Place> numbers_;
};

}  // namespace kestrum
