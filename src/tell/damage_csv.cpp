#include "tell/damage_csv.hpp"

#include "base/text.hpp"
#include "tell/csv_field.hpp"

namespace kestrum {

static constexpr std::size_t columns = 9;

void DamageCsv::destination(const std::string& root) {
  before_ += std::exchange(now_, {});
  destination_ = root;
}

void DamageCsv::file(Sequence point, const std::string& path, const std::string& reason,
                     const std::vector<BadPlace>& places) {
  const std::vector<std::string> start{destination_, std::to_string(point), path, reason};
  if (places.empty()) now_ += csv_line(start, columns);
  for (const BadPlace& place : places) {
    std::vector<std::string> cells = start;
    cells.push_back(place.folder + "/" + place.file);
    cells.push_back(std::to_string(place.from));
    cells.push_back(std::to_string(place.bytes()));
    cells.push_back(csv_moment(place.read_well));
    cells.push_back(csv_moment(place.found));
    now_ += csv_line(cells, columns);
  }
}

std::string DamageCsv::text() {
  destination(destination_);
  return csv_line({"destination", "point", "file", "reason", "bad file", "from byte", "bytes",
                   "read well last", "found bad"},
                  columns) +
         before_;
}

}  // namespace kestrum
