#include "cli/table.hpp"

#include <algorithm>

namespace kestrum {
namespace {

// Code points, near enough to columns for names.
std::size_t columns_of(const std::string& text) {
  return static_cast<std::size_t>(std::count_if(
      text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; }));
}

}  // namespace

std::string Table::text(const std::string& indent) const {
  // A column in which nothing stands is left out.
  std::vector<bool> shown(columns_.size());
  for (const auto& row : rows_) {
    for (std::size_t i = 0; i < columns_.size(); ++i) shown[i] = shown[i] || !row.at(i).empty();
  }
  std::vector<std::size_t> widths;
  for (std::size_t i = 0; i < columns_.size(); ++i) {
    std::size_t width = columns_of(columns_[i].first);
    for (const auto& row : rows_) width = std::max(width, columns_of(row.at(i)));
    widths.push_back(width);
  }
  std::string out;
  auto line = [&](const auto& cell) {
    std::string text = indent;
    for (std::size_t i = 0; i < columns_.size(); ++i) {
      if (!shown[i]) continue;
      std::string value = cell(i);
      std::string gap(widths[i] - columns_of(value), ' ');
      text += columns_[i].second == Align::left ? value + gap : gap + value;
      if (i + 1 < columns_.size()) text += "  ";
    }
    text.erase(text.find_last_not_of(' ') + 1);
    out += text + "\n";
  };
  line([&](std::size_t i) { return columns_[i].first; });
  for (const auto& row : rows_) line([&](std::size_t i) { return row.at(i); });
  return out;
}

}  // namespace kestrum
