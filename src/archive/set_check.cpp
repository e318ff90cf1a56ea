#include "archive/set_check.hpp"

#include <algorithm>

#include "base/text.hpp"

namespace kestrum {
namespace {

// A sum over (name, place) of every chunk: equal on both sides when index and frames say the same, whatever
// the order.
struct PlaceSum {
  std::uint64_t count = 0;
  std::uint64_t sum = 0;
  void add(const ChunkName& name, std::uint32_t slot, std::uint64_t frame, std::uint32_t offset,
           std::uint32_t length) {
    std::uint64_t value = ChunkNameHash{}(name);
    for (std::uint64_t part : {std::uint64_t{slot}, frame, std::uint64_t{offset}, std::uint64_t{length}}) {
      value = (value ^ part) * 0x9e3779b97f4a7c15u;
      value ^= value >> 29;
    }
    sum += value;
    ++count;
  }
  bool operator==(const PlaceSum&) const = default;
};

using BadFrames = std::unordered_set<std::uint64_t>;  // by offset

class VolumeCheck {
 public:
  VolumeCheck(SetReader& set, const CheckOptions& options, SetFindings& out, const Naming& naming)
      : set_(set), options_(options), out_(out), naming_(naming) {}

  PlaceSum& listed() { return listed_; }
  // True when everything in the file is good.
  bool check(const SealedFile& sealed, const std::vector<FramePlace>& expected, BadFrames& bad) {
    FrameFileReader& file = set_.file(sealed.slot);
    if (options_.drop_cache) file.drop_cache();
    std::string name = set_.folder().name + "/" + sealed.name;
    if (!options_.deep) {
      if (light_digest(file) == sealed.digest) return true;
      out_.findings.push_back(name + " is not as it was sealed");
      return false;
    }
    bool good = true;
    DigestStream stream;
    stream.update(file.header_bytes());
    std::uint64_t at = FileHeader::size;
    while (at < file.size()) {
      at = check_frame(file, sealed, at, stream, bad, good, name, expected);
    }
    if (good && stream.finish() != sealed.digest) {
      out_.findings.push_back(name + " is not as it was sealed");
      good = false;
    }
    return good;
  }

 private:
  // Returns where the next frame starts.
  std::uint64_t check_frame(FrameFileReader& file, const SealedFile& sealed, std::uint64_t at,
                            DigestStream& stream, BadFrames& bad, bool& good, const std::string& name,
                            const std::vector<FramePlace>& expected) {
    std::uint64_t next = file.size();
    try {
      auto [place, head] = file.head_at(at);
      stream.update(head);
      stream.update(file.tag_of(place));
      FrameContent frame = file.read(place);
      check_names(frame, naming_);
      next = at + place.size;
      std::uint32_t offset = 0;
      for (const ListedChunk& chunk : frame.chunks) {
        listed_.add(chunk.name, sealed.slot, at, offset, chunk.length);
        offset += chunk.length;
      }
      ++out_.frames;
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::stopped) throw;
      good = false;
      bad.insert(at);
      out_.findings.push_back(name + " at byte " + std::to_string(at) + ": " + error.what());
      // The head cannot be trusted: go on at the next place that the index knows.
      auto after = std::find_if(expected.begin(), expected.end(),
                                [&](const FramePlace& place) { return place.offset > at; });
      if (after != expected.end()) next = after->offset;
    }
    out_.bytes += next - at;
    if (options_.progress) options_.progress(next - at);
    return next;
  }

  SetReader& set_;
  const CheckOptions& options_;
  SetFindings& out_;
  const Naming& naming_;
  PlaceSum listed_;
};

// Distinct frames of each slot, in order of their offsets.
using FrameMap = std::map<std::uint32_t, std::vector<FramePlace>>;

FrameMap frames_of(SetReader& set, const std::set<std::uint32_t>& skip, PlaceSum& indexed, SetFindings& out) {
  FrameMap frames;
  try {
    set.each_record([&](const IndexRecord& record) {
      if (skip.contains(record.slot)) return;
      indexed.add(record.name, record.slot, record.frame.offset, record.offset, record.length);
      std::vector<FramePlace>& places = frames[record.slot];
      places.push_back(record.frame);
      if (places.size() % 65536 == 0) {  // many chunks share a frame: keep the list short
        std::sort(places.begin(), places.end(),
                  [](const auto& a, const auto& b) { return a.offset < b.offset; });
        places.erase(std::unique(places.begin(), places.end(),
                                 [](const auto& a, const auto& b) { return a.offset == b.offset; }),
                     places.end());
      }
    });
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::stopped) throw;
    out.index_lost = true;
    out.findings.push_back("the index of " + set.folder().name + " does not read: " + error.what());
  }
  for (auto& [slot, places] : frames) {
    std::sort(places.begin(), places.end(), [](const auto& a, const auto& b) { return a.offset < b.offset; });
  }
  return frames;
}

}  // namespace

SetFindings check_set(SetReader& set, const CheckOptions& options) {
  SetFindings out;
  Naming naming(set.naming_key());
  PlaceSum indexed;
  FrameMap frames;
  std::set<std::uint32_t> skip;  // slots
  for (const SealedFile& sealed : set.seal().core.files) {
    if (options.own_only && sealed.set != set.facts().set) skip.insert(sealed.slot);
  }
  if (options.deep) frames = frames_of(set, skip, indexed, out);
  VolumeCheck check(set, options, out, naming);
  LostPlaces& lost = out.places;
  for (const SealedFile& sealed : set.seal().core.files) {
    if (skip.contains(sealed.slot)) continue;
    BadFrames bad;
    bool good = false;
    try {
      good = check.check(sealed, frames[sealed.slot], bad);
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::stopped) throw;
      out.findings.emplace_back(error.what());
      bad.clear();
    }
    if (good) continue;
    // Of the index, parts may still read, but what a look-up needs is not sure to.
    if (bad.empty() || sealed.slot == 0) {
      lost.slots.insert(sealed.slot);
    } else {
      lost.frames[sealed.slot].insert(bad.begin(), bad.end());
    }
  }
  if (lost.empty() && !out.index_lost && options.deep && !(check.listed() == indexed)) {
    out.findings.push_back("the index of " + set.folder().name + " does not say what its volumes hold");
    out.index_lost = true;
  }
  if (out.index_lost) lost.slots.insert(0);
  out.index_lost = lost.slots.contains(0);
  if (!lost.empty() && !out.index_lost) {
    set.each_record([&](const IndexRecord& record) {
      if (lost.covers(record.slot, record.frame.offset)) out.lost.insert(record.name);
    });
  }
  return out;
}

}  // namespace kestrum
