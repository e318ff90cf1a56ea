#include "calendar/calendar_file.hpp"

#include <libical/ical.h>

#include <algorithm>
#include <memory>

namespace kestrum {
namespace {

icaltimetype utc_time(Instant when) {
  return icaltime_from_timet_with_zone(when.seconds, 0, icaltimezone_get_utc_timezone());
}

}  // namespace

std::string calendar_text(const std::vector<CalendarEntry>& entries, Instant made) {
  constexpr std::int64_t least = 60;
  std::unique_ptr<icalcomponent, decltype(&icalcomponent_free)> calendar(
      icalcomponent_vanew(ICAL_VCALENDAR_COMPONENT, icalproperty_new_version("2.0"),
                          icalproperty_new_prodid("-//Kestrum//backup schedule//EN"),
                          icalproperty_new_method(ICAL_METHOD_PUBLISH), nullptr),
      icalcomponent_free);
  for (const CalendarEntry& entry : entries) {
    icalcomponent* event = icalcomponent_new(ICAL_VEVENT_COMPONENT);
    icalcomponent_add_property(event, icalproperty_new_uid(entry.identity.c_str()));
    icalcomponent_add_property(event, icalproperty_new_dtstamp(utc_time(made)));
    icalcomponent_add_property(event, icalproperty_new_dtstart(utc_time(entry.begins)));
    icalcomponent_add_property(
        event, icalproperty_new_dtend(utc_time({entry.begins.seconds + std::max(entry.seconds, least), 0})));
    icalcomponent_add_property(event, icalproperty_new_summary(entry.title.c_str()));
    if (!entry.words.empty())
      icalcomponent_add_property(event, icalproperty_new_description(entry.words.c_str()));
    // It takes nobody's time.
    icalcomponent_add_property(event, icalproperty_new_transp(ICAL_TRANSP_TRANSPARENT));
    icalcomponent_add_component(calendar.get(), event);
  }
  std::unique_ptr<char, decltype(&free)> text(icalcomponent_as_ical_string_r(calendar.get()), free);
  return text ? text.get() : "";
}

}  // namespace kestrum
