// What a run that was broken off has left of its set, and what of it the next one can go on with:
// docs/FORMAT.md sections 3 (open.json) and 5 (journals).
#pragma once

#include <functional>
#include <map>

#include "archive/frame_file.hpp"
#include "archive/index_record.hpp"
#include "archive/job_folder.hpp"
#include "archive/journal.hpp"

namespace kestrum {

// Found by its open.json; nothing of it is proved.
struct Leftover {
  SetFolder folder;
  OpenMark mark;
  std::uint64_t bytes = 0;  // that its volumes take
};
// Nothing where the folder has a seal, or no open.json that is whole and that folder's. Throws Error of the
// system.
std::optional<Leftover> find_leftover(const Store& store, const SetFolder& folder);

// Gives it other ways in; what opens by them must be what opened before.
void rekey_leftover(Store& store, Leftover& leftover, const std::vector<KeyEntry>& keys);

struct JournalPlace {
  std::uint32_t volume = 0;  // number
  FramePlace place;
};

struct TakenLeftover {
  std::vector<SealedFile> volumes;
  std::vector<std::vector<JournalPlace>> rows;  // of journals whose files follow one another
  std::uint64_t journals = 0;                   // number of the last
  Bytes record;                                 // the last one's; empty without one
  std::uint64_t content_bytes = 0;              // of all chunks
  std::uint64_t dropped_bytes = 0;              // of the volumes, as they lay there
};

// Authenticates its frames from the first on, as far as all do; what comes behind is cut off, and what was
// kept is flushed. `chunks` is told of the chunks of each volume that is kept; `passed` of bytes read, and
// may throw. Throws Error of the system only.
TakenLeftover take_leftover(Store& store, const Leftover& leftover, const SecretKey& master,
                            const std::function<void(const std::vector<IndexRecord>&)>& chunks,
                            const std::function<void(std::uint64_t)>& passed);

// The files that the runs before have finished, asked for in the order of a catalog. Holds a page of each
// row.
class FinishedFiles {
 public:
  // The store must outlive it.
  FinishedFiles(const Store& store, const Leftover& leftover, const SecretKey& master,
                const TakenLeftover& taken);
  // What the newest of them has at that path.
  std::optional<Entry> find(const TreePath& path);

 private:
  static constexpr std::size_t most_rows = 64;
  struct Row {
    std::vector<JournalPlace> journals;
    std::size_t next = 0;
    std::vector<Entry> page;
    std::size_t at = 0;
  };
  // To the first that is not before `path`.
  void advance(Row& row, const TreePath& path);
  std::map<std::uint32_t, FrameFileReader> volumes_;
  std::vector<Row> rows_;  // newest first
};

}  // namespace kestrum
