// Columns of text.
#pragma once

#include <string>
#include <vector>

namespace kestrum {

class Table {
 public:
  enum class Align { left, right };
  explicit Table(std::vector<std::pair<std::string, Align>> columns) : columns_(std::move(columns)) {}
  void row(std::vector<std::string> cells) { rows_.push_back(std::move(cells)); }
  // With two blanks between columns and `indent` before each line; columns in which nothing stands are left
  // out.
  std::string text(const std::string& indent = "  ") const;

 private:
  std::vector<std::pair<std::string, Align>> columns_;
  std::vector<std::vector<std::string>> rows_;
};

}  // namespace kestrum
