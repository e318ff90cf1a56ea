// The page on a rehearsed restore.
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "tell/drill_words.hpp"
#include "tell/page_parts.hpp"

namespace kestrum {
namespace {

std::string list_of(const std::vector<std::string>& lines) {
  std::string out = "<ul>\n";
  for (const std::string& line : lines) {
    std::string text = line;
    if (!text.empty() && text[0] >= 'a' && text[0] <= 'z') text[0] = static_cast<char>(text[0] - 'a' + 'A');
    out += tag("li", text + ".");
  }
  return out + "</ul>\n";
}

std::string troubles(const DrillResult& result, const DrillEntry& entry) {
  std::vector<std::vector<std::string>> rows;
  for (const DrilledFile& file : result.files) {
    if (const std::string trouble = drilled_trouble(file); !trouble.empty())
      rows.push_back({printable(file.path), trouble});
  }
  if (rows.empty()) return {};
  const std::string advice = drill_advice(entry);
  return tag("h3", "What needs a look") + (advice.empty() ? "" : tag("p", advice + ".")) +
         table("Files that need a look",
               {{"File", false, false, true}, {"What about it", false, false, true}}, rows);
}

const char* source_word(DrilledFile::Source source) {
  switch (source) {
    case DrilledFile::Source::same:
      return "the same";
    case DrilledFile::Source::changed:
      return "changed since";
    case DrilledFile::Source::differs:
      return "other content";
    case DrilledFile::Source::unknown:
      break;
  }
  return "";
}

std::string opening_word(const Opening& opening) {
  switch (opening.how) {
    case Opening::How::opens:
      return "as a " + opening.as;
    case Opening::How::fails:
      return "no";
    case Opening::How::not_ended:
      return "took too long";
    case Opening::How::no_program:
    case Opening::How::unknown:
      break;
  }
  return "";
}

// So many fit some sheets of paper.
std::string sample(const DrillResult& result) {
  constexpr std::size_t most = 500;
  std::vector<std::vector<std::string>> rows;
  for (const DrilledFile& file : result.files) {
    if (rows.size() == most) break;
    const char* const state = file.state == DrilledFile::State::good      ? "as saved"
                              : file.state == DrilledFile::State::missing ? "did not come back"
                                                                          : "otherwise";
    rows.push_back({printable(file.path), size_text(file.size), state, source_word(file.source),
                    opening_word(file.opening)});
  }
  std::string caption = "The sample";
  if (result.files.size() > most) caption += ", the first " + grouped(most) + " files of it";
  return table(caption,
               {{"File", false, false, true},
                {"Size", true},
                {"Came back", false, false, true},
                {"On the disk today", false, true},
                {"Opens", false, true}},
               rows);
}

}  // namespace

std::string drill_page(const DrillResult& result, const DrillEntry& entry) {
  std::string out = page_start("Rehearsal of a restore: " + printable(entry.job));
  out += tag("p", drill_sentence(entry), "class=\"sentence\"");
  out += tag("p",
             "From point " + point_text(result.point) + " of " + printable(entry.drive) + ", rehearsed " +
                 weekday_text(entry.when) + " " + local_text(entry.when, true) + ". Times are local ones.",
             "class=\"quiet\"");
  out += "</header>\n<main>\n<section aria-label=\"What was done\">\n<h2>What came of it " +
         badge(entry.good ? "good" : "needs a look", !entry.good) + "</h2>\n" + list_of(drill_lines(result)) +
         troubles(result, entry) + "</section>\n";
  if (!result.files.empty()) out += "<section aria-label=\"The sample\">\n" + sample(result) + "</section>\n";
  out += "</main>\n<footer>\n";
  out +=
      tag("p",
          "A rehearsal brings a sample of the files back into an empty folder, by the same program code as a "
          "real restore, and compares each with what was saved. The sample is another each time.",
          "class=\"quiet\"");
  return out + page_end();
}

}  // namespace kestrum
