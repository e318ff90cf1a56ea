// points.
#include <fmt/format.h>

#include <map>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "cli/table.hpp"
#include "cli/verbs.hpp"
#include "engine/leftover_use.hpp"
#include "engine/outlook.hpp"
#include "plan/plan_words.hpp"
#include "tell/age_words.hpp"
#include "tell/documents.hpp"
#include "tell/points_figure.hpp"

namespace kestrum {
namespace {

// Short: of many ranges the first ones.
std::string needs_text(const PointInfo& info) {
  constexpr std::size_t longest = 40;
  std::string text = sequences_text(info.needs);
  if (text.size() <= longest) return text;
  return text.substr(0, text.rfind(", ", longest)) + ", ... (" + count_text(info.needs.size(), "set") + ")";
}

// Each finding once, with the points it is true of, in the order in which they were found.
std::string findings_text(const std::vector<PointInfo>& points) {
  std::map<std::string, std::size_t> places;
  std::vector<std::pair<std::string, std::vector<Sequence>>> found;
  for (const PointInfo& info : points) {
    for (const std::string& finding : info.findings) {
      auto [place, is_new] = places.try_emplace(finding, found.size());
      if (is_new) found.push_back({finding, {}});
      found[place->second].second.push_back(info.sequence);
    }
  }
  std::string out;
  for (const auto& [finding, where] : found)
    out += (where.size() == 1 ? "Point " : "Points ") + sequences_text(where) + ": " + finding + "\n";
  return out;
}

// A bar of up to `width` characters, in eighths.
std::string bar(std::uint64_t part, std::uint64_t whole, std::size_t width) {
  static const char* const eighths[] = {"", "▏", "▎", "▍", "▌", "▋", "▊", "▉"};
  if (whole == 0) return {};
  auto count = static_cast<std::size_t>(static_cast<double>(part) / static_cast<double>(whole) *
                                        static_cast<double>(width * 8));
  if (part > 0 && count == 0) count = 1;
  std::string out;
  for (std::size_t i = 0; i < count / 8; ++i) out += "█";
  return out + eighths[count % 8];
}

// Points of a chain hang together by a line; a full set begins one.
std::string chain_mark(const std::vector<PointInfo>& points, std::size_t i) {
  auto same = [&](std::size_t j) {
    return j < points.size() && points[j].sealed && points[j].facts.chain == points[i].facts.chain;
  };
  bool before = i > 0 && same(i - 1), after = same(i + 1);
  if (!before) return after ? "┌ " : "  ";
  return after ? "├ " : "└ ";
}

std::string remarks_text(const PointInfo& info) {
  std::vector<std::string> parts;
  if (info.facts.folded_from) parts.push_back("folded from " + std::to_string(*info.facts.folded_from));
  if (info.closed) parts.emplace_back("earlier passphrase");
  if (info.facts.standing.kept()) parts.emplace_back("kept");
  if (info.facts.standing.given_up()) parts.emplace_back("given up");
  if (info.facts.problems > 0) parts.push_back(count_text(info.facts.problems, "problem"));
  return join(parts, ", ");
}

// How long ago the part of its set was read back that this is longest ago of, or how much of it ever was.
std::string proved_text(const PointInfo& info, Instant now) {
  if (!info.proved) return {};
  if (info.proved->oldest) return age_text(info.proved->oldest, now);
  return info.proved->bytes == 0 ? "never" : std::to_string(info.proved->percent()) + " %";
}

Table points_table(const PointsResult& result, Instant now) {
  using enum Table::Align;
  Table table({{"POINT", right},
               {"MADE", left},
               {"HEALTH", left},
               {"READ BACK", left, 1},
               {"KIND", left},
               {"FILES", right, 2},
               {"SIZE", right, 3},
               {"STORED", right},
               {"PROPORTION", left, Table::ornament},
               {.heading = "NEEDS", .may_break = true},
               {.heading = "REMARKS", .may_break = true}});
  std::uint64_t largest = 0;
  for (const PointInfo& info : result.points) largest = std::max(largest, info.facts.totals.stored_bytes);
  for (std::size_t i = 0; i < result.points.size(); ++i) {
    const PointInfo& info = result.points[i];
    const SetFacts& facts = info.facts;
    if (!info.sealed) {
      table.row({std::to_string(info.sequence), "", std::string(health_text(info.health)), "", "", "", "", "",
                 "", "", ""});
      continue;
    }
    const std::string kind = chain_mark(result.points, i) + std::string(kind_name(facts.kind));
    table.row({std::to_string(info.sequence), weekday_text(facts.started) + " " + local_text(facts.started),
               std::string(health_text(info.health)), proved_text(info, now), kind,
               grouped(facts.totals.files), size_text(facts.totals.bytes),
               size_text(facts.totals.stored_bytes), bar(facts.totals.stored_bytes, largest, 10),
               needs_text(info), remarks_text(info)});
  }
  return table;
}

// What people have said of points, in their words.
std::string said_text(const std::vector<PointInfo>& points) {
  std::string out;
  for (const PointInfo& info : points) {
    if (info.sealed && info.facts.standing.is != Standing::Is::by_rules)
      out += "Point " + std::to_string(info.sequence) + ": " + standing_text(info.facts.standing) + "\n";
  }
  return out;
}

// The sets that the job's passphrase does not open.
std::string closed_text(const std::vector<PointInfo>& points) {
  std::vector<Sequence> closed;
  std::uint64_t bytes = 0;
  for (const PointInfo& info : points) {
    if (!info.closed) continue;
    closed.push_back(info.sequence);
    bytes += info.facts.totals.stored_bytes;
  }
  if (closed.empty()) return {};
  const bool one = closed.size() == 1;
  return (one ? "Point " : "Points ") + sequences_text(closed) + " (" + size_text(bytes) + ")" +
         (one ? " opens" : " open") + " with the passphrase of before only (--passphrase file:PATH) and " +
         (one ? "goes" : "go") + " as the keep rules say.\n";
}

// What goes after the next run, in one line for each reason.
std::string going_text(const Outlook& outlook) {
  const KeepPlan& plan = outlook.after;
  if (plan.held != Hold::nothing) return "  Nothing goes: " + hold_text(plan.held) + ".\n";
  struct Group {
    Fate fate;
    Sequence into;
    std::string why;
    std::vector<Sequence> points;
  };
  std::vector<Group> groups;
  for (const SetFate& fate : plan.fates) {
    if (fate.fate == Fate::stays) continue;
    std::string why = fate_reason_text(plan, fate);
    auto same = std::find_if(groups.begin(), groups.end(), [&](const Group& group) {
      return group.fate == fate.fate && group.into == fate.into && group.why == why;
    });
    if (same == groups.end()) same = groups.insert(groups.end(), {fate.fate, fate.into, why, {}});
    same->points.push_back(fate.sequence);
  }
  if (groups.empty()) return "  After it, every point stays.\n";
  std::string out;
  for (const Group& group : groups) {
    bool one = group.points.size() == 1;
    std::string verb = group.fate == Fate::goes
                           ? (one ? "goes" : "go")
                           : (one ? "folds into " : "fold into ") + std::to_string(group.into);
    out += std::string("  After it, ") + (one ? "point " : "points ") + sequences_text(group.points) + " " +
           verb + ": " + group.why + ".\n";
  }
  return out;
}

std::string outlook_text(const Outlook& outlook, const std::string& job) {
  std::string when = outlook.when ? "on " + weekday_text(*outlook.when) + " " + local_text(*outlook.when)
                                  : std::string("by hand");
  std::string misdated;
  for (const SetFate& fate : outlook.after.fates) {
    if (fate.misdated) misdated += "Note: " + misdated_text(fate.sequence) + ".\n";
  }
  const std::string next =
      outlook.unsure
          ? "its kind depends on what still reads of set " + std::to_string(*outlook.next.base) +
                ". To see it: kestrum preview " + shell_word(printable(job)) + "\n"
          : std::string(kind_name(outlook.next.kind)) + ", because " + kind_reason_text(outlook.next) + ".\n";
  return misdated + "The next run, " + when + ": " + next + going_text(outlook);
}

// What was said among the findings already is not said again.
std::string refusal_text(const Error& refused, const std::vector<std::string>& findings) {
  const bool said = std::find(findings.begin(), findings.end(), refused.what()) != findings.end();
  return "The next run is refused" + (said ? std::string(".") : std::string(": ") + refused.what() + ".") +
         "\n  " + refused.hint() + "\n";
}

void print_points(const PointsResult& result, bool several, Instant now) {
  std::string head = "Job " + printable(result.job) + " of " + printable(result.machine) + ", in " +
                     printable(result.destination) +
                     (!result.encrypted   ? ""
                      : *result.encrypted ? " (encrypted)"
                                          : " (not encrypted)") +
                     "\n";
  if (several) head += "To go back to one of these, write " + printable(result.drive) + ":POINT.\n";
  if (!result.points.empty() && result.points.back().sealed)
    head += "Times are " + zone_text(result.points.back().facts.started) + ".\n";
  out("{}\n", head);
  print(points_table(result, now));
  out("\n{}{}{}", findings_text(result.points), said_text(result.points), closed_text(result.points));
  for (const std::string& finding : result.findings) out("{}\n", finding);
  if (!result.words_proved)
    out("Whether points are kept, given up, suspect or trusted is not proved here: no key at hand opens all "
        "of "
        "them. To prove it: --passphrase ask\n");
  if (result.refused) out("{}", refusal_text(*result.refused, result.findings));
  if (result.left) {
    out("P{}. T{}.\n", left_text(*result.left).substr(1), left_advice(result.job).substr(1));
  }
  for (const std::string& note : result.notes) out("Note: {}.\n", note);
  out("{} of {} free.\n", size_text(result.space.free), size_text(result.space.total));
}

int points(const Arguments& arguments, const Environment& environment) {
  std::optional<std::string> figure = arguments.value("figure");
  if (figure) check_figure_name(*figure);
  std::vector<LookSession> subjects = open_subjects(arguments, environment, arguments.words()[0]);
  History history = History::open(environment.home(), [](const std::string&) {});  // looking needs no home
  std::vector<PointsResult> results;
  std::vector<std::optional<Outlook>> outlooks;
  bool damaged = false, refused = false;
  for (LookSession& subject : subjects) {
    results.push_back(list_points(subject, &history));
    const PointsResult& result = results.back();
    for (const PointInfo& info : result.points)
      damaged =
          damaged || info.health == Health::damaged || (info.sealed && info.health == Health::incomplete);
    damaged = damaged || !result.findings.empty();
    refused = refused || result.refused;
    outlooks.emplace_back();
    if (subject.job())
      outlooks.back() = look_ahead(*subject.job(), result.points, result.space, environment.clock().now());
    if (arguments.has("json")) continue;
    if (results.size() > 1) out("\n");
    print_points(result, subjects.size() > 1, environment.clock().now());
    if (outlooks.back() && !result.refused) out("{}", outlook_text(*outlooks.back(), subject.job()->name));
  }
  if (figure) draw_points(results, *figure);
  if (arguments.has("json")) {
    print_document(points_document(results, outlooks));
  } else if (figure) {
    out("The figure is in {}.\n", printable(*figure));
  }
  return damaged ? exit_code_of(ErrorKind::damage) : refused ? exit_problems : exit_done;
}

}  // namespace

Verb points_verb() {
  return {{"points",
           "SUBJECT",
           "list the points one can go back to",
           std::string(subject_words) + "\nOf a job, on all its drives that are connected.",
           1,
           1,
           with_subject_options({{"figure", "FILE", "draw the chains over time, into a .png or .svg file"}}),
           {"kestrum points wardens", "kestrum points /media/tern-1 --job wardens",
            "kestrum points wardens --figure /tmp/points.png"}},
          points};
}

}  // namespace kestrum
