// From one open file to its content list: cut, hand over, list.
#pragma once

#include "archive/catalog_entry.hpp"
#include "archive/chunk_store.hpp"
#include "archive/cutter.hpp"
#include "base/observer.hpp"
#include "source/file_reader.hpp"

namespace kestrum {

// Throws Error of kind stopped when the observer asks to stop.
void check_stop(const Observer& observer);

class FileSaver {
 public:
  // References must outlive this.
  FileSaver(ChunkSink& sink, const Cutter& cutter, Observer& observer)
      : sink_(sink), cutter_(cutter), observer_(observer) {}

  struct Saved {
    ContentList content;  // adds up to the size the file had when it was opened
    int code = 0;         // errno of a read that failed; what is missing is a hole
    bool short_by_change = false;
    std::uint64_t bytes_read = 0;
  };
  Saved save(FileReader& file);

 private:
  void cut_full(class ContentListBuilder& list);
  void cut_rest(class ContentListBuilder& list);

  ChunkSink& sink_;
  const Cutter& cutter_;
  Observer& observer_;
  Bytes pending_;
  std::size_t begin_ = 0;  // of what is not cut yet
};

}  // namespace kestrum
