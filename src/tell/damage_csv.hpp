// What damage means for which file, as comma-separated values.
#pragma once

#include <string>

#include "engine/verify.hpp"

namespace kestrum {

// One line for each affected file of each point, and each bad place that affects it.
class DamageCsv final : public AffectedSink {
 public:
  // What follows is of that destination.
  void destination(const std::string& root);
  void begin() override { now_.clear(); }
  void file(Sequence point, const std::string& path, const std::string& reason,
            const std::vector<BadPlace>& places) override;
  // Everything, with a line that names the columns.
  std::string text();

 private:
  std::string destination_;
  std::string before_, now_;  // lines of destinations before, and of this one
};

}  // namespace kestrum
