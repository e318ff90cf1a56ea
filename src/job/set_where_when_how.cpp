#include <algorithm>

#include "base/destination_address.hpp"
#include "base/error.hpp"
#include "base/text.hpp"
#include "base/tree_path.hpp"
#include "job/key_setters.hpp"

namespace kestrum {

static void check_destination(const std::string& value) {
  DestinationAddress address = DestinationAddress::parse(value);
  bool by_name = address.names_drive();
  if (by_name && address.drive.empty())
    refuse_value("'" + printable(value) + "' does not name a drive",
                 "write it like label:tern-1, or label:tern-1/backups for a folder on it");
  if (!by_name && !value.starts_with('/'))
    refuse_value("'" + printable(value) + "' is not an absolute path",
                 "write it from the root, like /media/tern-1, or name the drive: label:tern-1");
  if (!TreePath::parse(value))
    refuse_value("'" + printable(value) + "' holds '..'", "write the folder itself");
  if (!by_name && TreePath::parse(value)->is_root())
    refuse_value("'/' is the root of the system's own disk", "name a folder on another drive");
}

void set_destinations(Job& job, const KeyValues& values) {
  for (std::size_t i = 0; i < values.size(); ++i) {
    check_destination(values[i]);
    if (std::find(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(i), values[i]) !=
        values.begin() + static_cast<std::ptrdiff_t>(i))
      refuse_value("'" + printable(values[i]) + "' is named twice", "name each drive once");
  }
  job.destinations = values;
}

void set_use(Job& job, const KeyValues& values) {
  job.use =
      static_cast<UseOf>(one_of(values[0], {"whichever is connected", "all connected", "next when full"}));
}

void set_same_disk(Job& job, const KeyValues& values) {
  job.same_disk = one_of(values[0], {"refuse", "accept"}) == 1;
}

void set_program(Job& job, const KeyValues& values) {
  job.leaves_program = one_of(values[0], {"leave out", "put there"}) == 1;
}

void set_mount(Job& job, const KeyValues& values) {
  job.mount_for_run = one_of(values[0], {"as it is", "for each run"}) == 1;
}

void set_attach(Job& job, const KeyValues& values) {
  job.attach = values[0];
}

void set_detach(Job& job, const KeyValues& values) {
  job.detach = values[0];
}

void set_runs(Job& job, const KeyValues& values) {
  job.runs.clear();
  for (const std::string& value : values) job.runs.push_back(parse_phrase(value));
}

void set_if_missed(Job& job, const KeyValues& values) {
  job.catch_up = one_of(values[0], {"catch up", "skip"}) == 0;
}

void set_only_between(Job& job, const KeyValues& values) {
  job.window.only_between.clear();
  for (const std::string& value : values) job.window.only_between.push_back(parse_open_hours(value));
}

void set_not_on(Job& job, const KeyValues& values) {
  job.window.not_on.clear();
  for (const std::string& value : values) job.window.not_on.push_back(parse_closed_days(value));
}

void set_settle(Job& job, const KeyValues& values) {
  job.settle = expect_span(values[0]);
}

void set_least_interval(Job& job, const KeyValues& values) {
  job.least_interval = expect_span(values[0]);
}

void set_warn_after(Job& job, const KeyValues& values) {
  job.warn_after = expect_span(values[0]);
}

void set_enabled(Job& job, const KeyValues& values) {
  job.enabled = one_of(values[0], {"yes", "no"}) == 0;
}

void set_kind(Job& job, const KeyValues& values) {
  one_of(values[0], {"full", "incremental", "differential"});
  job.kind = *parse_kind(values[0]);
}

void set_renew(Job& job, const KeyValues& values) {
  job.renew = parse_renew(values);
}

void set_effort(Job& job, const KeyValues& values) {
  job.effort = static_cast<Effort>(one_of(values[0], {"low", "normal", "all"}));
}

void set_compression(Job& job, const KeyValues& values) {
  const std::string& value = values[0];
  if (!value.empty() && value.find_first_not_of("0123456789") == std::string::npos) {
    int level = value.size() > 3 ? 0 : std::stoi(value);
    if (level < 1 || level > 19)
      refuse_value("compression " + value + " is not between 1 and 19",
                   "write fast, normal, small or a number from 1 to 19");
    job.level = level;
  } else {
    // zstd 1, 3 and 12: beyond 12 a level costs several times the time for a few percent.
    constexpr int levels[] = {1, 3, 12};
    job.level = levels[one_of(value, {"fast", "normal", "small"}, " or a number from 1 to 19")];
  }
  job.compression = value;
}

void set_volume_size(Job& job, const KeyValues& values) {
  std::uint64_t size = size_value(values[0]);
  if (size < (64u << 10) || size > (std::uint64_t{1} << 40))
    refuse_value("a volume size of " + size_text(size) + " is not between 64 KiB and 1 TiB",
                 "the usual size is \"1 GiB\"");
  job.volume_bytes = size;
}

static std::vector<SpeedLimit> speed_limits(const KeyValues& values) {
  std::vector<SpeedLimit> limits;
  for (const std::string& value : values) limits.push_back(parse_speed_limit(value));
  return limits;
}
void set_read_limit(Job& job, const KeyValues& values) {
  job.read_limits = speed_limits(values);
}
void set_write_limit(Job& job, const KeyValues& values) {
  job.write_limits = speed_limits(values);
}

void set_hold_back(Job& job, const KeyValues& values) {
  job.waits_on_battery = job.waits_under_load = false;
  for (const std::string& value : values)
    (one_of(value, {"on battery", "under load"}) == 0 ? job.waits_on_battery : job.waits_under_load) = true;
}

}  // namespace kestrum
