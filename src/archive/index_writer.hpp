// Writes the index of a set: docs/FORMAT.md section 6.
#pragma once

#include "archive/frame_file.hpp"
#include "archive/index_spool.hpp"

namespace kestrum {

struct WrittenIndex {
  SealedFile file;   // slot 0; its name is the last part of the path
  FramePlace fence;  // where its fence table lies
};

// `records`: gives each of them, in order of names. Flushed.
WrittenIndex write_index(Store& store, const std::string& path, const Id& job, const Id& set,
                         const SecretKey& master,
                         const std::function<void(const std::function<void(const IndexRecord&)>&)>& records);

}  // namespace kestrum
