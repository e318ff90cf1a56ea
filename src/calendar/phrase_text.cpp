#include "base/text.hpp"
#include "calendar/phrase.hpp"
#include "calendar/phrase_words.hpp"

namespace kestrum {
namespace {

std::string two_digits(int n) {
  return (n < 10 ? "0" : "") + std::to_string(n);
}

std::string day_text(const CivilDay& day) {
  return std::to_string(day.year) + "-" + two_digits(day.month) + "-" + two_digits(day.day);
}

std::string stretch_text(unsigned minutes) {
  if (minutes % 60 == 0 && minutes > 60) return std::to_string(minutes / 60) + " hours";
  return std::to_string(minutes) + " minutes";
}

std::string weekdays_text(unsigned days) {
  if (days == all_days) return "daily";
  if (days == working_days) return "weekdays";
  if (days == weekend_days) return "weekends";
  std::vector<std::string> names;
  for (std::size_t i = 0; i < weekday_names.size(); ++i) {
    if ((days >> i & 1) != 0) names.emplace_back(weekday_names[i]);
  }
  if (names.size() == 1) return names[0] + "s";
  std::string last = names.back();
  names.pop_back();
  return join(names, ", ") + " and " + last;
}

std::string ordinal_text(int n) {
  if (n < 0) return "last";
  return ordinal_names.at(static_cast<std::size_t>(n - 1));
}

std::string day_of_month_text(int n) {
  if (n < 0) return "last day";
  const char* ending = n % 10 == 1 && n != 11   ? "st"
                       : n % 10 == 2 && n != 12 ? "nd"
                       : n % 10 == 3 && n != 13 ? "rd"
                                                : "th";
  return std::to_string(n) + ending;
}

}  // namespace

std::string Phrase::text() const {
  std::string time = two_digits(hour) + ":" + two_digits(minute);
  std::string out;
  switch (type) {
    case Type::by_hand:
      out = "by hand";
      break;
    case Type::once:
      out = "once at " + day_text(day) + " " + time;
      break;
    case Type::hourly:
      out = "hourly at minute " + std::to_string(minute);
      break;
    case Type::every_minutes:
      out = "every " + stretch_text(every);
      break;
    case Type::weekly:
      out = weekdays_text(weekdays) + " at " + time;
      break;
    case Type::monthly_day:
      out = "monthly on the " + day_of_month_text(ordinal) + " at " + time;
      break;
    case Type::monthly_weekday: {
      unsigned which = 0;
      while ((weekdays >> which & 1) == 0) ++which;
      out = ordinal_text(ordinal) + " " + weekday_names.at(which) + " at " + time;
      break;
    }
    case Type::every_days:
      out = "every " +
            (every % 7 == 0 ? std::to_string(every / 7) + " weeks" : std::to_string(every) + " days") +
            " from " + day_text(day) + " at " + time;
      break;
    case Type::on_change:
      out = "on change" + (every > 0 ? ", at least every " + stretch_text(every) : std::string());
      break;
    case Type::rule:
      out = "rrule " + rule + " from " + day_text(day) + " " + time;
      break;
  }
  if (kind) out += " " + std::string(kind_name(*kind));
  return out;
}

}  // namespace kestrum
