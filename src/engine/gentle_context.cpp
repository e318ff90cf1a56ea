#include "engine/gentle_context.hpp"

#include "engine/effort.hpp"
#include "store/paced_store.hpp"

namespace kestrum {

static Pace pace_of(const std::vector<SpeedLimit>& limits, const RunContext& context) {
  return Pace([&] { return speed_at(limits, context.clock.now()); }, context.control);
}

GentleContext::GentleContext(const Job& job, const RunContext& context)
    : reading_(pace_of(job.read_limits, context)),
      writing_(pace_of(job.write_limits, context)),
      gentle_(context) {
  gentle_.workers = workers_for(job.effort, context.workers);
  Pace* const reading = job.read_limits.empty() ? nullptr : &reading_;
  Pace* const writing = job.write_limits.empty() ? nullptr : &writing_;
  if (reading != nullptr) gentle_.read_pace = reading;
  if (reading != nullptr || writing != nullptr)
    gentle_.open_store = [reading, writing,
                          open = context.open_store](const std::string& root) -> std::unique_ptr<Store> {
      return std::make_unique<PacedStore>(open(root), reading, writing);
    };
}

}  // namespace kestrum
