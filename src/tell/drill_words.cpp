#include "tell/drill_words.hpp"

#include <cmath>
#include <map>

#include "base/text.hpp"
#include "calendar/local_time.hpp"

namespace kestrum {
namespace {

// Nobody can know it more exactly.
std::string about(std::uint64_t seconds) {
  const auto rounded = [&](double unit) {
    return static_cast<std::uint64_t>(std::llround(static_cast<double>(seconds) / unit));
  };
  if (seconds < 60) return "less than a minute";
  if (seconds < 5400) return "about " + count_text(rounded(60), "minute");
  if (seconds < 129600) return "about " + count_text(rounded(3600), "hour");
  return "about " + count_text(rounded(86400), "day");
}

std::string opened_line(const DrillResult& result) {
  std::map<std::string, std::uint64_t> opened, closed;
  for (const DrilledFile& file : result.files) {
    if (file.opens()) ++opened[file.opening.as];
    if (file.opening.how == Opening::How::no_program) ++closed[file.opening.as];
  }
  std::vector<std::string> words;
  for (const auto& [as, count] : opened) words.push_back(count_text(count, as));
  std::string line = words.empty() ? "" : join(words, ", ") + " opened in what opens such files";
  words.clear();
  for (const auto& [as, count] : closed) words.push_back(count_text(count, as));
  if (!words.empty())
    line +=
        (line.empty() ? "" : "; ") + join(words, ", ") + " could not be tried: no program for them is here";
  return line;
}

std::string source_line(const DrillResult& result) {
  using Source = DrilledFile::Source;
  const std::uint64_t same = result.count(Source::same), changed = result.count(Source::changed),
                      differs = result.count(Source::differs);
  if (same + changed + differs == 0) return {};
  std::string line = "held against the disk: " + grouped(same) + " " + (same == 1 ? "is" : "are") +
                     " there the same, byte for byte; " + grouped(changed) + " changed since or gone";
  if (differs > 0)
    line += "; " + count_text(differs, "has", "have") + " other content there now, at the same size and time";
  return line;
}

}  // namespace

std::string drill_sentence(const DrillEntry& drill) {
  const std::string when = weekday_text(drill.when) + " " + day_text(drill.when);
  if (drill.files == 0) return "On " + when + " no file was brought back: there was none to choose from.";
  std::string text = "On " + when + " " + grouped(drill.files) + " of " +
                     count_text(drill.all_files, "file") + (drill.files == 1 ? " was" : " were") +
                     " brought back and compared";
  const std::uint64_t good = drill.files - drill.bad;
  text += drill.bad == 0
              ? (drill.files == 1 ? ", and is as it was saved." : ", and all are as they were saved.")
              : ": " + count_text(good, "is", "are") + " as saved, " + count_text(drill.bad, "is", "are") +
                    " not.";
  if (drill.failed_trials > 0)
    text +=
        " Of " + count_text(drill.trials, "other trial") + " " + grouped(drill.failed_trials) + " failed.";
  return text + " A full restore would take " + about(drill.all_seconds) + ".";
}

std::string drill_advice(const DrillEntry& drill) {
  if (drill.bad == 0 && drill.files > 0) return {};
  return "What else is affected, and what could be mended: kestrum verify " +
         shell_word(printable(drill.job));
}

std::string drilled_trouble(const DrilledFile& file) {
  using State = DrilledFile::State;
  if (file.state == State::missing) return "it did not come back: " + file.why;
  if (file.state == State::different) return "it came back otherwise than it was saved: " + file.why;
  if (file.source == DrilledFile::Source::differs)
    return "the file on the disk has other content now, at the same size and time: that one may have gone "
           "bad";
  if (file.fails_to_open())
    return "it is as it was saved, and does not open as a " + file.opening.as + " (" + file.opening.program +
           ": " + file.opening.why + ")";
  return {};
}

std::vector<std::string> drill_lines(const DrillResult& result) {
  using State = DrilledFile::State;
  std::uint64_t wanted = 0;
  for (const DrilledFile& file : result.files) wanted += file.wanted ? 1 : 0;
  std::vector<std::string> lines;
  lines.push_back(
      grouped(result.files.size()) + " of " + count_text(result.all_files, "file") + ", " +
      size_text(result.bytes) + " of " + size_text(result.all_bytes) + ", chosen by chance (seed " +
      std::to_string(result.seed) + ")" +
      (wanted > 0 ? ", " + grouped(wanted) + " of them because they must always be" : std::string()));
  lines.push_back(count_text(result.count(State::good), "is", "are") +
                  " as saved, in content, size and time; " + grouped(result.count(State::missing)) +
                  " did not come back; " + grouped(result.count(State::different)) + " came back otherwise");
  for (std::string line : {source_line(result), opened_line(result)}) {
    if (!line.empty()) lines.push_back(std::move(line));
  }
  if (result.unopened() > 0)
    lines.push_back(count_text(result.unopened(), "file does", "files do") +
                    " not open, though as saved: so they were on the disk already");
  lines.push_back("it took " +
                  duration_text(std::chrono::duration_cast<std::chrono::nanoseconds>(
                      std::chrono::duration<double>(result.seconds))) +
                  "; everything would take " + about(static_cast<std::uint64_t>(result.all_seconds)));
  for (const std::string& trouble : result.troubles) lines.push_back(trouble);
  for (const RebuildTrial& trial : result.trials)
    lines.push_back(trial.what + ": " + (trial.good ? "" : "FAILED, ") + trial.words);
  return lines;
}

}  // namespace kestrum
