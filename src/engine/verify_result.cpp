#include <algorithm>

#include "base/exit_codes.hpp"
#include "engine/verify.hpp"

namespace kestrum {

bool VerifyResult::damaged() const {
  return !findings.empty() ||
         std::any_of(points.begin(), points.end(), [](const PointVerdict& point) { return point.damaged(); });
}

bool VerifyResult::good() const {
  return findings.empty() &&
         std::all_of(points.begin(), points.end(), [](const PointVerdict& point) { return point.good(); });
}

bool VerifyResult::closed() const {
  return std::any_of(points.begin(), points.end(),
                     [](const PointVerdict& point) { return point.closed && !point.expected; });
}

int exit_code_of(const std::vector<DriveVerdict>& verdicts) {
  bool good = true, damaged = false, closed = false, wrong = false;
  for (const DriveVerdict& verdict : verdicts) {
    good = good && verdict.result.good();
    damaged = damaged || verdict.result.damaged();
    closed = closed || verdict.result.closed();
    wrong = wrong || (verdict.result.source && verdict.result.source->wrong > 0);
    for (const PointVerdict& point : verdict.result.points) wrong = wrong || !point.parity.empty();
  }
  if (damaged) return exit_code_of(ErrorKind::damage);
  if (good) return wrong ? exit_problems : exit_done;
  return exit_code_of(closed ? ErrorKind::key : ErrorKind::failed);
}

}  // namespace kestrum
