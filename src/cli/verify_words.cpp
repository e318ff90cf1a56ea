#include "cli/verify_words.hpp"

#include <map>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "rules/keep_rules.hpp"

namespace kestrum {
namespace {

// A file mostly is affected at several points in the same way: told once.
using Files = std::map<std::pair<std::string, std::string>, std::vector<Sequence>>;

std::string points_text(const std::vector<Sequence>& points) {
  return (points.size() == 1 ? "point " : "points ") + sequences_text(points);
}

// So many of them. False: there are more.
bool print_files(const Files& files, std::size_t most, const char* indent) {
  std::size_t listed = 0;
  for (const auto& [file, points] : files) {
    if (++listed > most) return false;
    out_lines("{}{}: {} ({})\n", indent, printable(file.first), file.second, points_text(points));
  }
  return true;
}

std::string since_text(const BadPlace& place) {
  std::string text = place.read_well ? "read well last " + local_text(*place.read_well)
                                     : "not known ever to have been read back well";
  if (place.found) text += ", found bad " + local_text(*place.found);
  return text;
}

void print_place(const BadPlace& place, const Files& files) {
  constexpr std::size_t most = 5;
  const std::string name = place.folder + "/" + place.file;
  if (place.whole) {
    out("  {}: nothing of it reads\n", name);
  } else if (place.to > place.from) {
    out("  {}: {} from byte {}\n", name, size_text(place.bytes()), grouped(place.from));
  } else {
    out("  {}: a frame at byte {}\n", name, grouped(place.from));
  }
  out("    {}\n", since_text(place));
  if (place.files == 0) return;
  out("    {} at {}\n", count_text(place.files, "file"),
      points_text({place.points.begin(), place.points.end()}));
  print_files(files, most, "      ");
  if (place.files > std::min(files.size(), most))
    out("      and {} more\n", grouped(place.files - std::min(files.size(), most)));
}

void print_places(const VerifyResult& result, std::vector<Files>& files) {
  constexpr std::size_t most = 20;
  if (result.places.empty()) return;
  out("\nWhat does not read, and the files that cannot be restored as they were:\n");
  for (std::size_t i = 0; i < result.places.size() && i < most; ++i) print_place(result.places[i], files[i]);
  if (result.places.size() > most)
    out("  and {} other places of lesser meaning\n", grouped(result.places.size() - most));
}

std::string file_text(const MendedFile& file, bool dry) {
  const FileMending& mending = file.mending;
  const std::string reads = dry ? "it does not read" : "it did not read";
  if (!file.trouble.empty()) return reads + ", and " + file.trouble;
  if (!file.has_parity) return reads + " as it was sealed, and it " + (dry ? "has" : "had") + " no parity";
  const std::string bad = count_text(mending.lost, "bad place", "bad places") + " of 4 KiB, ";
  const std::string brings = dry ? "its parity would bring back " : "its parity brought back ";
  if (mending.whole && mending.lost == 0)
    return std::string(dry ? "it would get" : "it has") + " its length again";
  if (mending.whole) return bad + (dry ? "to be mended from its parity" : "mended from its parity");
  if (mending.mended == 0) return bad + "more than its parity can mend";
  return bad + brings + grouped(mending.mended) + " of them";
}

void print_pieces(const SetRepair& set, bool dry) {
  if (set.pieces_lost == 0) return;
  std::vector<std::string> from;
  const std::string verb = dry ? " still " : " taken again from ";
  if (set.from_sets > 0)
    from.push_back(grouped(set.from_sets) + verb + (dry ? "in other sets here" : "other sets here"));
  if (set.from_elsewhere > 0)
    from.push_back(grouped(set.from_elsewhere) + verb +
                   (dry ? "on another destination" : "another destination"));
  if (set.from_sources > 0)
    from.push_back(grouped(set.from_sources) + verb + (dry ? "in today's files" : "today's files"));
  if (set.pieces_left() > 0) from.push_back(grouped(set.pieces_left()) + " nowhere to be found");
  out("  {} of its content lost: {}\n", count_text(set.pieces_lost, "piece"), join(from, ", "));
}

}  // namespace

void print_damage(const VerifyResult& result, const std::string& subject) {
  constexpr std::size_t most = 30;
  std::vector<Files> of_places(result.places.size());
  Files others, all;
  bool more = false;
  for (const PointVerdict& verdict : result.points) {
    more = more || verdict.affected_count > verdict.affected.size();
    for (const AffectedFile& file : verdict.affected) {
      all[{file.path, file.reason}].push_back(verdict.sequence);
      if (file.places.empty()) others[{file.path, file.reason}].push_back(verdict.sequence);
      for (const std::size_t place : file.places)
        of_places[place][{file.path, file.reason}].push_back(verdict.sequence);
    }
  }
  print_places(result, of_places);
  if (!others.empty()) {
    out("\n{}:\n", result.places.empty() ? "What cannot be restored as it was" : "Besides");
    more = !print_files(others, most, "  ") || more;
  }
  if (all.empty()) return;
  if (more || all.size() > 5)
    out("All of them as a table: kestrum verify {} --known --csv FILE\n", shell_word(printable(subject)));
  out("Everything else can be restored. The next run saves these files anew, as far as the sources still "
      "have them.\n");
}

void print_mending(const SetRepair& set, bool dry) {
  out("Point {}:\n", point_text(set.facts));
  if (set.seals) out("  one of its two seals {} as the other\n", dry ? "would be written" : "was written");
  constexpr std::size_t most = 20;
  for (std::size_t i = 0; i < set.files.size() && i < most; ++i)
    out("  {}: {}\n", printable(set.files[i].name), file_text(set.files[i], dry));
  if (set.files.size() > most)
    out("  and {} more files; --json lists all\n", grouped(set.files.size() - most));
  if (set.index) out("  its index {} made anew from its volumes\n", dry ? "would be" : "was");
  print_pieces(set, dry);
  if (set.parity_made > 0)
    out("  parity {} for {}\n", dry ? "would be made" : "made", count_text(set.parity_made, "file"));
}

}  // namespace kestrum
