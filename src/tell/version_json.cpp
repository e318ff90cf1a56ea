#include "tell/version_json.hpp"

#include "base/text.hpp"

namespace kestrum {

static const char* after_word(AfterVersion after) {
  return after == AfterVersion::gone ? "gone" : after == AfterVersion::changed ? "changed" : "still-there";
}

Json version_json(const std::vector<LookSession>& subjects, const FoundVersion& version, Today today) {
  Json one = entry_json(version.entry);
  one["drive"] = to_utf8(subjects[version.session].drive_name());
  one["points"] = version.points;
  one["first"] = utc_text(version.first);
  one["last"] = utc_text(version.last);
  one["after"] = after_word(version.after);
  const bool there = version.after == AfterVersion::still_there;
  one["since"] = there ? Json(nullptr) : Json(utc_text(version.since));
  one["today"] = today_word(today);
  return one;
}

}  // namespace kestrum
