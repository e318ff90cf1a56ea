#include <cctz/civil_time.h>

#include <algorithm>
#include <charconv>

#include "base/error.hpp"
#include "base/text.hpp"
#include "calendar/phrase.hpp"
#include "calendar/phrase_words.hpp"
#include "calendar/recurrence.hpp"

namespace kestrum {
namespace {

constexpr unsigned day_minutes = 24 * 60;
constexpr int usual_time = 12 * 60 + 30;

constexpr const char* examples =
    "write it like \"daily at 12:30\", \"weekdays at 20:30\", \"first sunday at 03:00 full\", \"monthly on "
    "the "
    "last day at 22:00\", \"every 20 minutes\", \"hourly at minute 15\", \"on change\" or \"by hand\"";

int last_day_of(int year, int month) {
  return (cctz::civil_day(cctz::civil_month(year, month) + 1) - 1).day();
}

// Reads one phrase. What cannot be is put right and remembered, so that the nearest that can be is known.
class Parser {
 public:
  explicit Parser(std::string_view text) : given_(trim(text)) {
    std::string plain;
    for (char c : given_)
      plain += c == ',' ? std::string(" ")
                        : std::string(1, static_cast<char>(std::tolower(static_cast<unsigned char>(c))));
    for (const std::string& word : split(plain, ' ')) {
      if (!word.empty()) add_word(word);
    }
    typed_ = words_;
  }

  Phrase parse() {
    if (words_.empty()) refuse("it says nothing");
    correct_words();
    if (words_[0] == "rrule" || words_[0].starts_with("rrule:")) {
      rule();
    } else {
      take_kind();
      body();
      if (at_ < words_.size()) refuse("'" + typed(at_) + "' says nothing there");
    }
    if (!complaint_.empty()) refuse(complaint_);
    return phrase_;
  }

 private:
  // "30min" is two words, "8 pm" one.
  void add_word(const std::string& word) {
    std::size_t digits = word.find_first_not_of("0123456789");
    bool half_of_day = word == "am" || word == "pm";
    bool unit_behind = digits != 0 && digits != std::string::npos &&
                       unit_minutes(std::string_view(word).substr(digits)) != 0;
    if (half_of_day && !words_.empty() && std::isdigit(static_cast<unsigned char>(words_.back()[0])) != 0) {
      words_.back() += word;
    } else if (unit_behind) {
      words_.push_back(word.substr(0, digits));
      words_.push_back(word.substr(digits));
    } else {
      words_.push_back(word);
    }
  }
  // As it was typed, before anything was put right.
  std::string typed(std::size_t at) const { return printable(typed_[at]); }
  std::string typed_last() const { return typed(at_ - 1); }

  // Keeps what was understood: days, hour, kind.
  std::string near_to_it() {
    if (!understood_) {
      std::optional<int> minute = time_said();
      if (!minute && phrase_.weekdays == 0) return examples;
      phrase_.type = Phrase::Type::weekly;
      if (phrase_.weekdays == 0) phrase_.weekdays = all_days;
      take_time(minute.value_or(usual_time));
    }
    return "did you mean \"" + phrase_.text() + "\"?";
  }
  [[noreturn]] void refuse(const std::string& why) {
    std::string nearest = near_to_it();
    throw Error(ErrorKind::usage, "\"" + printable(given_) + "\" does not say when: " + why, nearest);
  }
  void complain(const std::string& what) {
    if (complaint_.empty()) complaint_ = what;
  }

  // A word that is nearly one of ours is taken for it, and said.
  void correct_words() {
    static const std::vector<std::string> known{
        "weekly",    "twice",    "thrice",  "times",    "half",        "until",        "till",   "noon",
        "midnight",  "mins",     "through", "by",       "hand",        "once",         "at",     "hourly",
        "minute",    "minutes",  "hour",    "hours",    "every",       "daily",        "day",    "days",
        "weekdays",  "weekends", "monthly", "on",       "the",         "last",         "first",  "second",
        "third",     "fourth",   "fifth",   "of",       "month",       "from",         "weeks",  "week",
        "change",    "least",    "and",     "full",     "incremental", "differential", "monday", "tuesday",
        "wednesday", "thursday", "friday",  "saturday", "sunday"};
    if (words_[0].starts_with("rrule")) return;
    for (std::string& word : words_) {
      bool is_word =
          std::all_of(word.begin(), word.end(), [](unsigned char c) { return std::isalpha(c) != 0; });
      if (!is_word || weekday(word) >= 0 || std::find(known.begin(), known.end(), word) != known.end())
        continue;
      // Short words are near to too many.
      std::optional<std::string> near = word.size() < 4 ? std::nullopt : nearest(word, known);
      if (near && near->size() >= 4) {
        complain("'" + printable(word) + "' is no word of it");
        word = *near;
      }
    }
  }

  bool at(std::initializer_list<std::string_view> expected) {
    if (words_.size() - at_ < expected.size()) return false;
    if (!std::equal(expected.begin(), expected.end(), words_.begin() + static_cast<std::ptrdiff_t>(at_)))
      return false;
    at_ += expected.size();
    return true;
  }
  bool done() const { return at_ == words_.size(); }
  std::string next(const char* what) {
    if (done()) refuse(std::string("it does not say ") + what);
    return words_[at_++];
  }

  void take_kind() {
    if (words_.size() < 2) return;
    if (std::optional<Kind> kind = parse_kind(words_.back())) {
      phrase_.kind = kind;
      words_.pop_back();
    } else if ((kind = parse_kind(words_.front()))) {
      phrase_.kind = kind;
      words_.erase(words_.begin());
      typed_.erase(typed_.begin());
    }
  }

  static int weekday(std::string_view word) {
    for (std::size_t i = 0; i < weekday_names.size(); ++i) {
      std::string_view name = weekday_names[i];
      bool same = word == name ||
                  (word.size() == name.size() + 1 && word.starts_with(name) && word.ends_with('s')) ||
                  (word.size() >= 2 && name.starts_with(word));
      if (same) return static_cast<int>(i);
    }
    return -1;
  }

  static std::optional<unsigned> number(std::string_view text) {
    unsigned value = 0;
    auto [end, code] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (code != std::errc() || end != text.data() + text.size()) return std::nullopt;
    return value;
  }

  // Minutes that such a word counts by; 0: it is no unit of time of day.
  static unsigned unit_minutes(std::string_view unit) {
    for (std::string_view one : {"m", "min", "mins", "minute", "minutes"}) {
      if (unit == one) return 1;
    }
    for (std::string_view one : {"h", "hr", "hrs", "hour", "hours"}) {
      if (unit == one) return 60;
    }
    return 0;
  }

  // "09:30", "9.30", "0930", "9am", "9:30pm", "noon": the minute of the day.
  static std::optional<int> time_of(std::string_view text) {
    if (text == "noon") return 12 * 60;
    if (text == "midnight") return 0;
    bool am = text.ends_with("am"), pm = text.ends_with("pm");
    if (am || pm) text.remove_suffix(2);
    std::size_t mark = text.find_first_of(":.");
    std::string_view hours = text.substr(0, mark);
    std::string_view minutes = mark == std::string_view::npos ? std::string_view() : text.substr(mark + 1);
    if (mark == std::string_view::npos && (text.size() == 4 || (text.size() == 3 && !am && !pm))) {
      hours = text.substr(0, text.size() - 2);
      minutes = text.substr(text.size() - 2);
    } else if (mark == std::string_view::npos && !am && !pm) {
      return std::nullopt;
    } else if (mark == std::string_view::npos) {
      minutes = "00";
    }
    std::optional<unsigned> hour = hours.size() <= 2 ? number(hours) : std::nullopt;
    std::optional<unsigned> minute = minutes.size() == 2 ? number(minutes) : std::nullopt;
    if (!hour || !minute || *hour > 23 || *minute > 59) return std::nullopt;
    if (am || pm) {
      if (*hour < 1 || *hour > 12) return std::nullopt;
      hour = *hour % 12 + (pm ? 12 : 0);
    }
    return static_cast<int>(*hour * 60 + *minute);
  }
  // The first word that is a time, wherever it stands.
  std::optional<int> time_said() const {
    for (const std::string& word : words_) {
      if (std::optional<int> minute = time_of(word)) return minute;
    }
    return std::nullopt;
  }
  void take_time(int minute) {
    phrase_.hour = minute / 60;
    phrase_.minute = minute % 60;
  }

  // "at 09:30", "9:30"
  void time_of_day() {
    understood_ = true;
    take_time(time_said().value_or(usual_time));
    bool said = at({"at"}) || (!done() && time_of(words_[at_]));
    if (!said && !done() && !number(words_[at_])) refuse("'" + typed(at_) + "' says nothing there");
    if (!said && done()) refuse("it does not say at what time");
    clock_time(next("at what time"));
  }
  void clock_time(const std::string& text) {
    if (std::optional<int> minute = time_of(text)) return take_time(*minute);
    std::size_t colon = text.find(':');
    std::optional<unsigned> hour = number(std::string_view(text).substr(0, colon));
    std::optional<unsigned> minute =
        colon == std::string::npos ? std::nullopt : number(std::string_view(text).substr(colon + 1));
    if (!minute && colon == std::string::npos && hour) {
      complain("'" + typed_last() + "' is no time; hours and minutes are wanted");
      minute = 0;
    }
    if (!hour || !minute || (colon != std::string::npos && text.size() - colon != 3)) {
      take_time(usual_time);
      refuse("'" + typed_last() + "' is no time");
    }
    if (*hour > 23 || *minute > 59) complain("there is no " + printable(text) + " on any day");
    phrase_.hour = static_cast<int>(std::min(*hour, 23u));
    phrase_.minute = static_cast<int>(std::min(*minute, 59u));
  }

  void date(const std::string& text) {
    std::vector<std::string> parts = split(text, '-');
    std::optional<unsigned> year = parts.size() == 3 ? number(parts[0]) : std::nullopt;
    std::optional<unsigned> month = parts.size() == 3 ? number(parts[1]) : std::nullopt;
    std::optional<unsigned> day = parts.size() == 3 ? number(parts[2]) : std::nullopt;
    if (!year || !month || !day || *year < 1970 || *year > 9999) {
      understood_ = false;
      throw Error(ErrorKind::usage,
                  "\"" + printable(given_) + "\" does not say when: '" + printable(text) + "' is no date",
                  "write dates like 2027-03-14");
    }
    int real_month = static_cast<int>(std::clamp(*month, 1u, 12u));
    int last = last_day_of(static_cast<int>(*year), real_month);
    int real_day = std::clamp(static_cast<int>(std::min(*day, 99u)), 1, last);
    if (real_month != static_cast<int>(*month) || real_day != static_cast<int>(*day))
      complain("there is no " + printable(text));
    phrase_.day = {static_cast<int>(*year), real_month, real_day};
  }

  void body() {
    using Type = Phrase::Type;
    if (at({"by", "hand"})) {
      phrase_.type = Type::by_hand;
    } else if (at({"once"})) {
      phrase_.type = Type::once;
      at({"at"});
      at({"on"});
      date(next("on what day"));
      understood_ = true;
      at({"at"});
      clock_time(next("at what time"));
    } else if (at({"twice"}) || at({"thrice"}) || at({"2", "times"}) || at({"3", "times"}) ||
               at({"4", "times"}) || at({"three", "times"}) || at({"four", "times"})) {
      times_a_day();
    } else if (at({"every", "half", "hour"}) || at({"every", "half", "an", "hour"})) {
      phrase_.type = Type::every_minutes;
      phrase_.every = 30;
    } else if (at({"weekly"})) {
      phrase_.weekdays = 0;
      at({"on"});
      if (done() || words_[at_] == "at" || time_of(words_[at_])) {
        phrase_.type = Type::weekly;
        phrase_.weekdays = 1;
        time_of_day();
      } else {
        weekly();
      }
    } else if (at({"hourly"}) || at({"every", "hour"})) {
      hourly();
    } else if (at({"on", "change"})) {
      on_change();
    } else if (at({"daily"}) || at({"every", "day"})) {
      phrase_.type = Type::weekly;
      phrase_.weekdays = all_days;
      time_of_day();
    } else if (at({"monthly"}) || at({"every", "month"})) {
      at({"on"});
      at({"the"});
      monthly();
    } else if (words_[0] == "every" && words_.size() > 1 && number(words_[1])) {
      ++at_;
      every();
    } else {
      at({"the"});
      if (ordinal_ahead()) {
        monthly();
      } else {
        weekly();
      }
    }
    understood_ = true;
  }

  // "twice a day", "3 times daily": at equal distances.
  void times_a_day() {
    const std::string& first = words_[0];
    unsigned times = first == "twice" || first == "2" ? 2 : first == "4" || first == "four" ? 4 : 3;
    phrase_.type = Phrase::Type::every_minutes;
    phrase_.every = day_minutes / times;
    understood_ = true;
    if (!at({"a", "day"}) && !at({"daily"}) && !at({"every", "day"}) && !at({"per", "day"}))
      refuse("it does not say in what time");
  }

  void hourly() {
    phrase_.type = Phrase::Type::hourly;
    understood_ = true;
    if (!at({"at"})) return;
    at({"minute"});
    std::string text = next("at what minute");
    if (text.starts_with(':')) text.erase(0, 1);
    std::optional<unsigned> minute = number(text);
    if (!minute) refuse("'" + printable(text) + "' is no minute");
    if (*minute > 59) complain("an hour has no minute " + std::to_string(*minute));
    phrase_.minute = static_cast<int>(std::min(*minute, 59u));
  }

  // A number of minutes or hours, as minutes.
  unsigned stretch() {
    std::string text = next("how often");
    std::optional<unsigned> count = number(text);
    if (!count) refuse("'" + printable(text) + "' is no number");
    std::string unit = next("in what unit");
    unsigned factor = unit_minutes(unit);
    if (factor == 0) refuse("'" + typed_last() + "' is neither minutes nor hours");
    std::uint64_t minutes = std::uint64_t{*count} * factor;
    if (minutes < 5) complain("runs closer together than 5 minutes only get in each other's way");
    if (minutes > day_minutes) complain("more than a day is said in days: every 2 days from a date");
    return static_cast<unsigned>(std::clamp<std::uint64_t>(minutes, 5, day_minutes));
  }

  void on_change() {
    phrase_.type = Phrase::Type::on_change;
    understood_ = true;
    if (!at({"at", "least", "every"})) return;
    phrase_.every = 60;
    phrase_.every = stretch();
  }

  void every() {
    const std::string& unit = words_.size() > 2 ? words_[2] : words_[1];
    bool weeks = unit.starts_with("week");
    if (!weeks && !unit.starts_with("day")) {
      phrase_.type = Phrase::Type::every_minutes;
      phrase_.every = 60;
      understood_ = true;
      phrase_.every = stretch();
      return;
    }
    phrase_.type = Phrase::Type::every_days;
    std::uint64_t count = *number(words_[1]);
    at_ = 3;
    if (count == 0) complain("every 0 days is never");
    phrase_.every = static_cast<unsigned>(std::clamp<std::uint64_t>(count, 1, 1000)) * (weeks ? 7 : 1);
    if (count > 1000) complain("that is longer than anybody waits for a backup");
    if (!at({"from"}))
      throw Error(ErrorKind::usage,
                  "\"" + printable(given_) + "\" does not say when: it does not say from which day on",
                  "write it like \"every 3 days from 2027-03-14 at 09:30\"");
    date(next("from which day on"));
    time_of_day();
  }

  bool ordinal_ahead() const {
    if (done()) return false;
    bool named = words_[at_] == "last" ||
                 std::find(ordinal_names.begin(), ordinal_names.end(), words_[at_]) != ordinal_names.end();
    if (named || !number_with_ending(words_[at_]) || at_ + 1 >= words_.size()) return named;
    const std::string& behind = words_[at_ + 1];
    return weekday(behind) >= 0 || behind == "of" || behind == "day";
  }
  // "15", "15th", "1st"
  static std::optional<unsigned> number_with_ending(std::string_view text) {
    for (std::string_view ending : {"st", "nd", "rd", "th"}) {
      if (text.ends_with(ending)) return number(text.substr(0, text.size() - 2));
    }
    return number(text);
  }

  void monthly() {
    at({"day"});
    if (!done() && words_[at_] == "at") {
      phrase_.type = Phrase::Type::monthly_day;
      phrase_.ordinal = 1;
      take_time(time_said().value_or(usual_time));
      understood_ = true;
      refuse("it does not say on which day");
    }
    std::string text = next("on which day");
    auto named = std::find(ordinal_names.begin(), ordinal_names.end(), text);
    std::optional<unsigned> count = named != ordinal_names.end()
                                        ? std::optional<unsigned>(named - ordinal_names.begin() + 1)
                                        : number_with_ending(text);
    if (text == "last") {
      phrase_.ordinal = -1;
    } else if (count) {
      phrase_.ordinal = static_cast<int>(std::min(*count, 99u));
    } else {
      refuse("'" + typed_last() + "' is no day of a month");
    }
    if (!done() && weekday(words_[at_]) >= 0) {
      phrase_.type = Phrase::Type::monthly_weekday;
      phrase_.weekdays = 1u << weekday(words_[at_++]);
      if (phrase_.ordinal == 0 || phrase_.ordinal > 5) {
        complain("no month has that many of them");
        phrase_.ordinal = -1;
      }
    } else {
      phrase_.type = Phrase::Type::monthly_day;
      at({"day"});
      if (phrase_.ordinal == 0 || phrase_.ordinal > 31) {
        complain("no month has such a day");
        phrase_.ordinal = -1;
      }
    }
    if (at({"of"})) {
      at({"the"}) || at({"every"});
      at({"month"});
    }
    time_of_day();
  }

  // "mo-fr", "monday to friday", "fri - mon"
  bool days_from_to() {
    std::string first = words_[at_], last;
    std::size_t taken = 1;
    if (std::size_t line = first.find('-'); line != std::string::npos && line > 0) {
      last = first.substr(line + 1);
      first.resize(line);
    } else if (at_ + 2 < words_.size()) {
      const std::string& between = words_[at_ + 1];
      bool range = between == "to" || between == "-" || between == "until" || between == "till" ||
                   between == "through";
      if (range) last = words_[at_ + 2];
      taken = 3;
    }
    int from = weekday(first), to = weekday(last);
    if (from < 0 || to < 0) return false;
    for (int day = from;; day = (day + 1) % 7) {
      phrase_.weekdays |= 1u << day;
      if (day == to) break;
    }
    at_ += taken;
    return true;
  }

  void weekly() {
    phrase_.type = Phrase::Type::weekly;
    at({"every"});
    at({"on"});
    while (!done() && words_[at_] != "at" && !time_of(words_[at_])) {
      if (at({"and"}) || at({"on"}) || days_from_to()) continue;
      if (at({"weekdays"})) {
        phrase_.weekdays |= working_days;
      } else if (at({"weekends"})) {
        phrase_.weekdays |= weekend_days;
      } else if (weekday(words_[at_]) >= 0) {
        phrase_.weekdays |= 1u << weekday(words_[at_++]);
      } else {
        refuse("'" + typed(at_) + "' is no day");
      }
    }
    if (phrase_.weekdays == 0) refuse("it names no day");
    time_of_day();
  }

  // The rule is taken as it was written: RFC 5545 is in upper case.
  void rule() {
    phrase_.type = Phrase::Type::rule;
    std::vector<std::string> parts;
    for (std::string& part : split(given_, ' ')) {
      if (!part.empty()) parts.push_back(std::move(part));
    }
    if (parse_kind(parts.back())) {
      phrase_.kind = parse_kind(parts.back());
      parts.pop_back();
    }
    std::string first = parts[0];
    std::size_t colon = first.find(':');
    std::string text =
        colon == std::string::npos ? (parts.size() > 1 ? parts[1] : "") : first.substr(colon + 1);
    std::size_t from = colon == std::string::npos ? 2 : 1;
    bool complete = parts.size() == from + 3 && parts[from] == "from";
    if (!complete)
      throw Error(ErrorKind::usage,
                  "\"" + printable(given_) + "\" does not say when: a rule needs its first moment",
                  "write it like \"rrule FREQ=MONTHLY;BYDAY=2TU from 2027-03-09 09:30\"");
    phrase_.rule = text;
    date(parts[from + 1]);
    understood_ = true;
    clock_time(parts[from + 2]);
    if (!complaint_.empty()) return;
    if (std::string why = recurrence_trouble(phrase_); !why.empty())
      throw Error(ErrorKind::usage, "\"" + printable(given_) + "\" does not say when: " + why,
                  "RFC 5545 section 3.3.10 says how rules are written");
  }

  std::string given_;
  std::vector<std::string> words_, typed_;  // put right, and as they came
  std::size_t at_ = 0;
  Phrase phrase_;
  bool understood_ = false;  // phrase_ has a text that means something
  std::string complaint_;
};

}  // namespace

Phrase parse_phrase(std::string_view text) {
  return Parser(text).parse();
}

}  // namespace kestrum
