// From one open file to its content list: cut, hand over, list.
#pragma once

#include "archive/catalog_entry.hpp"
#include "archive/chunk_store.hpp"
#include "archive/cutter.hpp"
#include "base/head_look.hpp"
#include "base/observer.hpp"
#include "base/pace.hpp"
#include "base/run_control.hpp"
#include "source/file_reader.hpp"

namespace kestrum {

class FileSaver {
 public:
  // References must outlive this.
  // `pace`: of reading; nullptr: as fast as it goes.
  FileSaver(ChunkSink& sink, const Cutter& cutter, Observer& observer, RunControl& control, Pace* pace)
      : sink_(sink), cutter_(cutter), observer_(observer), control_(control), pace_(pace) {}

  struct Saved {
    ContentList content;  // adds up to the size the file had when it was opened
    int code = 0;         // errno of a read that failed; what is missing is a hole
    bool short_by_change = false;
    std::uint64_t bytes_read = 0;
    HeadLook head = HeadLook::nothing;
  };
  Saved save(FileReader& file);

 private:
  void cut_full(class ContentListBuilder& list);
  void cut_rest(class ContentListBuilder& list);

  ChunkSink& sink_;
  const Cutter& cutter_;
  Observer& observer_;
  RunControl& control_;
  Pace* pace_;
  Bytes pending_;
  std::size_t begin_ = 0;  // of what is not cut yet
};

}  // namespace kestrum
