#include "engine/system_bus.hpp"

#include <fcntl.h>
#include <systemd/sd-bus.h>

#include <memory>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

constexpr const char* name = "org.freedesktop.login1";
constexpr const char* path = "/org/freedesktop/login1";
constexpr const char* interface = "org.freedesktop.login1.Manager";
constexpr std::uint64_t patience_microseconds = 10'000'000;

struct CloseBus {
  void operator()(sd_bus* bus) const { sd_bus_flush_close_unref(bus); }
};
struct DropMessage {
  void operator()(sd_bus_message* message) const { sd_bus_message_unref(message); }
};
using Message = std::unique_ptr<sd_bus_message, DropMessage>;

struct BusError {
  sd_bus_error error = SD_BUS_ERROR_NULL;
  BusError() = default;
  ~BusError() { sd_bus_error_free(&error); }
  BusError(const BusError&) = delete;
  BusError& operator=(const BusError&) = delete;
  std::string text(int code) const {
    return error.message != nullptr ? printable(error.message) : system_reason(-code);
  }
};

class Bus {
 public:
  Bus() {
    sd_bus* bus = nullptr;
    if (sd_bus_open_system(&bus) < 0) return;
    bus_.reset(bus);
    sd_bus_set_method_call_timeout(bus, patience_microseconds);
  }
  sd_bus* get() const { return bus_.get(); }
  explicit operator bool() const { return bus_ != nullptr; }

 private:
  std::unique_ptr<sd_bus, CloseBus> bus_;
};

void tell_manager(const char* method, const char* what) {
  const Bus bus;
  if (!bus)
    throw Error(ErrorKind::failed, std::string("the machine cannot ") + what + ": there is no system bus");
  BusError error;
  const int code =
      sd_bus_call_method(bus.get(), name, path, interface, method, &error.error, nullptr, "b", 0);
  if (code < 0)
    throw Error(ErrorKind::failed, std::string("the machine does not ") + what + ": " + error.text(code));
}

}  // namespace

FileHandle hold_off_standby(const std::string& why, std::string& trouble) {
  const Bus bus;
  if (!bus) return {};
  BusError error;
  sd_bus_message* answer = nullptr;
  const int code = sd_bus_call_method(bus.get(), name, path, interface, "Inhibit", &error.error, &answer,
                                      "ssss", "sleep", "kestrum", why.c_str(), "block");
  const Message kept(answer);
  if (code < 0) {
    const bool nobody = sd_bus_error_has_name(&error.error, SD_BUS_ERROR_SERVICE_UNKNOWN) != 0;
    if (!nobody) trouble = error.text(code);
    return {};
  }
  int handle = -1;
  if (sd_bus_message_read(answer, "h", &handle) < 0) return {};
  return FileHandle(fcntl(handle, F_DUPFD_CLOEXEC, 3));
}

std::optional<bool> on_battery() {
  const Bus bus;
  if (!bus) return std::nullopt;
  BusError error;
  int plugged = 0;
  if (sd_bus_get_property_trivial(bus.get(), name, path, interface, "OnExternalPower", &error.error, 'b',
                                  &plugged) < 0)
    return std::nullopt;
  return plugged == 0;
}

void go_to_standby() {
  tell_manager("Suspend", "go to standby");
}

void switch_machine_off() {
  tell_manager("PowerOff", "switch off");
}

}  // namespace kestrum
