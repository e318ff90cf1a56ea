// Columns of text.
#pragma once

#include <string>
#include <vector>

namespace kestrum {

class Table {
 public:
  enum class Align { left, right };
  struct Column {
    std::string heading;
    Align align = Align::left;
    // What is done where the table is too wide: the column with the highest number goes first; 0: it stays.
    // Ornament goes before any words are broken.
    int may_go = 0;
    bool may_break = false;  // its words may go on below
  };
  static constexpr int ornament = 4;
  explicit Table(std::vector<Column> columns) : columns_(std::move(columns)) {}
  void row(std::vector<std::string> cells);
  // With two blanks between columns and `indent` before each line; columns in which nothing stands are left
  // out. `width`: of the screen; 0: any. Names are never cut, so a table with long ones may be wider.
  std::string text(const std::string& indent = "  ", std::size_t width = 0) const;

 private:
  std::vector<std::size_t> widths() const;
  std::vector<Column> columns_;
  std::vector<std::vector<std::string>> rows_;
};

}  // namespace kestrum
