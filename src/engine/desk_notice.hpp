// Words at the desk of a person: a desktop notification (org.freedesktop.Notifications, over D-Bus).
#pragma once

#include <sys/types.h>

#include <string>

namespace kestrum {

// False: no desktop session of that person runs here, or it shows none. Of another person only root can. Its
// service is not trusted with anything but the words. `own_bus`: the address of the bus of this process's own
// session; empty: where the system puts it.
bool notify_person(uid_t person, const std::string& title, const std::string& words,
                   const std::string& own_bus);

}  // namespace kestrum
