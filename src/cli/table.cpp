#include "cli/table.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "cli/screen.hpp"

namespace kestrum {
namespace {

// Of the widths of columns, those that are there: a column that is not has none.
std::size_t total_of(const std::vector<std::size_t>& widths) {
  std::size_t sum = 0, shown = 0;
  for (std::size_t width : widths) {
    sum += width;
    shown += width > 0 ? 1 : 0;
  }
  return sum + 2 * (shown > 0 ? shown - 1 : 0);
}

// Of those that may go with at least that number.
void drop_columns(const std::vector<Table::Column>& columns, std::vector<std::size_t>& widths,
                  std::size_t room, int least) {
  while (total_of(widths) > room) {
    std::size_t drop = columns.size();
    for (std::size_t i = 0; i < columns.size(); ++i) {
      if (widths[i] > 0 && columns[i].may_go >= least &&
          columns[i].may_go > (drop < columns.size() ? columns[drop].may_go : 0))
        drop = i;
    }
    if (drop == columns.size()) return;
    widths[drop] = 0;
  }
}

constexpr std::size_t narrowest_column = 8;

void narrow_columns(const std::vector<Table::Column>& columns, std::vector<std::size_t>& widths,
                    std::size_t room) {
  for (std::size_t i = columns.size(); i-- > 0 && total_of(widths) > room;) {
    if (!columns[i].may_break || widths[i] <= narrowest_column) continue;
    std::size_t over = total_of(widths) - room;
    widths[i] = std::max(narrowest_column, widths[i] - std::min(widths[i], over));
  }
}

std::vector<std::string> lines_of(const std::string& cell, std::size_t width) {
  std::vector<std::string> lines = split(wrapped(cell, width), '\n');
  for (std::string& line : lines) line.erase(0, std::min(line.find_first_not_of(' '), line.size()));
  return lines;
}

}  // namespace

void Table::row(std::vector<std::string> cells) {
  if (!out_screen().utf8) std::transform(cells.begin(), cells.end(), cells.begin(), in_ascii);
  rows_.push_back(std::move(cells));
}

std::vector<std::size_t> Table::widths() const {
  std::vector<std::size_t> widths(columns_.size());
  for (std::size_t i = 0; i < columns_.size(); ++i) {
    for (const auto& row : rows_) widths[i] = std::max(widths[i], columns_of(row.at(i)));
    if (widths[i] > 0) widths[i] = std::max(widths[i], columns_of(columns_[i].heading));
  }
  return widths;
}

std::string Table::text(const std::string& indent, std::size_t width) const {
  std::vector<std::size_t> widths = this->widths();
  if (width > 0) {
    const std::size_t room = width - std::min(width, indent.size());
    // Ornament first, then words are broken, and figures go only where that is not enough.
    drop_columns(columns_, widths, room, ornament);
    std::vector<std::size_t> narrowed = widths;
    narrow_columns(columns_, narrowed, room);
    if (total_of(narrowed) > room) {
      drop_columns(columns_, widths, room, 1);
      narrowed = widths;
      narrow_columns(columns_, narrowed, room);
    }
    widths = narrowed;
  }
  std::string out;
  auto line = [&](const auto& cell) {
    std::vector<std::vector<std::string>> cells(columns_.size());
    std::size_t high = 1;
    for (std::size_t i = 0; i < columns_.size(); ++i) {
      const bool breaks = columns_[i].may_break && columns_of(cell(i)) > widths[i];
      cells[i] = breaks ? lines_of(cell(i), widths[i]) : std::vector<std::string>{cell(i)};
      if (widths[i] > 0) high = std::max(high, cells[i].size());
    }
    for (std::size_t row = 0; row < high; ++row) {
      std::string text = indent;
      for (std::size_t i = 0; i < columns_.size(); ++i) {
        if (widths[i] == 0) continue;
        const std::string value = row < cells[i].size() ? cells[i][row] : std::string();
        const std::string gap(widths[i] - std::min(widths[i], columns_of(value)), ' ');
        text += (columns_[i].align == Align::left ? value + gap : gap + value) + "  ";
      }
      text.erase(text.find_last_not_of(' ') + 1);
      out += text + "\n";
    }
  };
  line([&](std::size_t i) { return columns_[i].heading; });
  for (const auto& row : rows_) line([&](std::size_t i) { return row.at(i); });
  return out;
}

}  // namespace kestrum
