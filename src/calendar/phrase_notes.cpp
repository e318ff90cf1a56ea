// What is said of phrases that are allowed and hardly meant.
#include <algorithm>
#include <set>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "calendar/run_window.hpp"

namespace kestrum {

// The first moment of a phrase of which none is inside the window, as far as one would look.
static std::optional<Instant> never_inside(const Phrase& phrase, Instant now, const RunWindow& window) {
  constexpr std::size_t far_enough = 400;
  const std::vector<Occurrence> coming = next_times({phrase}, now, far_enough);
  for (const Occurrence& one : coming) {
    if (window.is_open(one.when)) return std::nullopt;
  }
  return coming.empty() ? std::nullopt : std::optional(coming[0].when);
}

std::vector<std::string> phrase_notes(const std::vector<Phrase>& phrases, Instant now,
                                      const RunWindow& window) {
  constexpr std::size_t far_enough = 2000;
  std::vector<std::string> notes;
  auto quoted = [&](std::size_t i) { return "\"" + phrases[i].text() + "\""; };
  for (std::size_t i = 0; i < phrases.size(); ++i) {
    using Type = Phrase::Type;
    bool has_times = phrases[i].type != Type::by_hand && phrases[i].type != Type::on_change;
    if (has_times && !next_time(phrases[i], now))
      notes.push_back("[when] runs " + quoted(i) + " is past: it starts no run");
    const unsigned rest = phrases[i].type == Type::every_minutes ? 24 * 60 % phrases[i].every : 0;
    if (rest != 0)
      notes.push_back("[when] runs " + quoted(i) +
                      " is counted from each midnight: the last step of a day is " +
                      count_text(rest, "minute"));
  }
  for (std::size_t i = 0; i < phrases.size() && !window.always(); ++i) {
    if (const std::optional<Instant> outside = never_inside(phrases[i], now, window))
      notes.push_back(
          "[when] runs " + quoted(i) +
          " never falls into the hours and days in which runs may start: each waits, the next from " +
          local_text(*outside) + " until " + local_text(window.opens(*outside).value_or(*outside)));
  }
  std::set<std::pair<std::size_t, std::size_t>> told;
  const std::vector<Occurrence> coming =
      phrases.size() > 1 ? next_times(phrases, now, far_enough) : std::vector<Occurrence>();
  for (std::size_t i = 1; i < coming.size(); ++i) {
    const Occurrence& one = coming[i - 1];
    const Occurrence& other = coming[i];
    if (one.when != other.when || !told.insert(std::minmax(one.phrase, other.phrase)).second) continue;
    notes.push_back("[when] runs " + quoted(one.phrase) + " and " + quoted(other.phrase) +
                    " come at the same minute, first on " + local_text(one.when) +
                    ": move one of them, unless two runs in a row are meant");
  }
  return notes;
}

}  // namespace kestrum
