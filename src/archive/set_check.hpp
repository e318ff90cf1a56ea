// Reading one set back: is every file of it as it was sealed?
#pragma once

#include <functional>

#include "archive/set_reader.hpp"

namespace kestrum {

struct SetFindings {
  std::vector<std::string> findings;  // plain words, each naming its file
  std::vector<std::string> parity;    // the same of its parity: nothing is lost by that
  LostPlaces places;                  // where nothing good can be read
  bool index_lost = false;            // nothing of this set can be found
  bool unread = false;                // some of the damage is that the drive does not read it
  std::uint64_t frames = 0;
  std::uint64_t bytes = 0;  // read
};

// How much of each frame is looked at.
enum class FrameCheck : std::uint8_t {
  marks,      // head and tag, against the file's digest in the seal
  authentic,  // every byte is what was sealed, and the chunks that are listed lie where the index says
  content,    // besides, it decompresses, and every chunk has the name that is listed
};

struct CheckOptions {
  FrameCheck frames = FrameCheck::content;
  // With `authentic`: one frame in so many is read as with `content`, which ones is left to chance; 0: none.
  unsigned content_one_in = 0;
  std::uint64_t chance = 0;  // by which they are chosen
  bool drop_cache = false;   // read from the drive, not from memory
  bool own_only = false;     // not the files that a folded set has taken over as they were
  unsigned workers = 2;      // threads that read, decrypt and check; the caller's besides
  std::function<void(std::uint64_t bytes)> progress;  // of the caller's thread; may throw to stop
};

// In a stretch: the parity of the file with that slot.
inline constexpr std::uint32_t parity_slot = 1u << 30;

// The check of one set, part by part. Never throws for damage: that is the result.
class SetCheck {
 public:
  static constexpr std::uint64_t stretch_bytes = 64u << 20;
  // Both must outlive this. Reads the index; with `marks` nothing.
  SetCheck(SetReader& set, const CheckOptions& options, std::uint64_t stretch = stretch_bytes);
  ~SetCheck();
  SetCheck(const SetCheck&) = delete;
  SetCheck& operator=(const SetCheck&) = delete;

  // The same each time for the same set: all of its files, in parts of about that size. With `marks`, and
  // where the index does not read, each file is one.
  const std::vector<Stretch>& stretches() const;
  // False when anything in it is not as it was sealed.
  bool check(const Stretch& stretch);
  // Of what was checked; once, at the end.
  SetFindings finish();

 private:
  class Work;
  std::unique_ptr<Work> work_;
};

// All of it.
SetFindings check_set(SetReader& set, const CheckOptions& options);

}  // namespace kestrum
