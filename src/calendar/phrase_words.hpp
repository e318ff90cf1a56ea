// The words that the parser of phrases and their text share.
#pragma once

#include <array>

namespace kestrum {

inline constexpr std::array<const char*, 7> weekday_names{"monday", "tuesday",  "wednesday", "thursday",
                                                          "friday", "saturday", "sunday"};
inline constexpr std::array<const char*, 5> ordinal_names{"first", "second", "third", "fourth", "fifth"};
inline constexpr unsigned working_days = 0x1f;
inline constexpr unsigned weekend_days = 0x60;
inline constexpr unsigned all_days = 0x7f;

}  // namespace kestrum
