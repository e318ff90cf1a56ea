// What a preview leaves in files: the list of every file, and a figure of where the bytes are.
#pragma once

#include "engine/preview.hpp"
#include "tell/output_file.hpp"

namespace kestrum {

// CSV (RFC 4180) with a head: verdict, bytes, category, path, why. Names as `printable` shows them.
class PreviewList {
 public:
  explicit PreviewList(const std::string& path);
  void add(const PreviewItem& item);
  // The file is there from here on.
  void finish() { file_.keep(); }

 private:
  OutputFile file_;
};

// Throws Error (see tell/gnuplot.hpp).
void draw_preview(const std::string& job, const PreviewResult& preview, const std::string& path);

}  // namespace kestrum
