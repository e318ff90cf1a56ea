#include "engine/watch_note.hpp"

#include <unistd.h>

#include <algorithm>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/error.hpp"
#include "base/hex_array.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

using Json = nlohmann::json;
using How = FolderChange::How;

constexpr std::size_t largest_note = 256u << 20;

// Names are bytes: hexadecimal needs no care.
std::string hex(const std::string& bytes) {
  return to_hex(as_bytes(bytes));
}

std::string bytes_of(const Json& json) {
  const Bytes bytes = from_hex(json.get<std::string>()).value();
  return {bytes.begin(), bytes.end()};
}

Json names_json(const std::set<std::string, std::less<>>& names) {
  Json json = Json::array();
  for (const std::string& name : names) json.push_back(hex(name));
  return json;
}

}  // namespace

void write_watch_note(const Home& home, const std::string& job, const WatchNote& note) {
  Json folders = Json::array();
  for (const auto& [path, remembered] : note.changes.folders)
    folders.push_back({hex(path.joined()), remembered.period, static_cast<int>(remembered.change.how),
                       names_json(remembered.change.names)});
  Json json{{"version", 1},
            {"start", note.start},
            {"selection", note.selection},
            {"told", utc_text(note.told)},
            {"everything", note.everything},
            {"watch", to_hex(note.changes.watch)},
            {"period", note.changes.period},
            {"folders", std::move(folders)}};
  // Of the clock that all processes of a machine share.
  if (note.looked_from) json["looked-from"] = note.looked_from->time_since_epoch().count();
  const std::string file = home.watch_file(job);
  home.make_folder_of(file);
  replace_file(file, as_bytes(json.dump() + "\n"), 0600);
}

std::optional<WatchNote> read_watch_note(const Home& home, const std::string& job, std::int64_t start) {
  try {
    const Bytes text = read_small_file(home.watch_file(job), largest_note);
    const Json json = Json::parse(text.begin(), text.end());
    WatchNote note;
    note.start = json.at("start").get<std::int64_t>();
    if (json.at("version").get<int>() != 1 || note.start != start) return std::nullopt;
    note.selection = json.at("selection").get<std::string>();
    note.told = parse_utc(json.at("told").get<std::string>()).value();
    note.everything = json.at("everything").get<bool>();
    if (auto from = json.find("looked-from"); from != json.end())
      note.looked_from = ChangeWatch::Moment(ChangeWatch::Moment::duration(from->get<std::int64_t>()));
    note.changes.watch = array_from_hex<16>(json.at("watch").get<std::string>()).value();
    note.changes.period = json.at("period").get<std::uint64_t>();
    for (const Json& one : json.at("folders")) {
      ChangeWatch::Remembered& remembered =
          note.changes.folders[TreePath::from_joined(bytes_of(one.at(0))).value()];
      remembered.period = one.at(1).get<std::uint64_t>();
      const int how = one.at(2).get<int>();
      if (how < 0 || how > static_cast<int>(How::whole)) return std::nullopt;
      remembered.change.how = static_cast<How>(how);
      for (const Json& name : one.at(3)) {
        const std::string bytes = bytes_of(name);
        if (!valid_component(bytes)) return std::nullopt;
        remembered.change.names.insert(bytes);
      }
    }
    return note;
  } catch (const std::exception&) {
    return std::nullopt;
  }
}

void look_at_everything_from_now(const Home& home, const std::string& job, std::int64_t start) {
  try {
    if (std::optional<WatchNote> note = read_watch_note(home, job, start)) {
      // What watches dates things when it hears of them: a breath, so that it has heard of what was made just
      // now.
      constexpr std::chrono::milliseconds breath(250);
      std::this_thread::sleep_for(breath);
      note->everything = true;
      note->looked_from = ChangeWatch::Moment::clock::now();
      return write_watch_note(home, job, *note);
    }
  } catch (const Error&) {
    // Then without.
  }
  remove_watch_note(home, job);
}

void remove_watch_note(const Home& home, const std::string& job) {
  unlink(home.watch_file(job).c_str());
}

std::string selection_mark(const Selection& selection) {
  std::string text;
  auto add = [&](const std::string& part) { text += std::to_string(part.size()) + ":" + part; };
  for (const TreePath& source : selection.sources) add(source.joined());
  for (const Place& place : selection.places) {
    add(place.path.joined());
    add(std::to_string(place.category) + (place.whole ? " whole" : ""));
  }
  for (const std::string& category : selection.categories) add(category);
  std::map<std::string, std::uint16_t> types(selection.types.begin(), selection.types.end());
  for (const auto& [ending, category] : types) add(ending + " " + std::to_string(category));
  for (std::size_t rule = 0; rule < selection.skip.size(); ++rule)
    add(selection.skip.source(static_cast<int>(rule)).text);
  const SelectionLimits& limits = selection.limits;
  add(limits.largest ? std::to_string(*limits.largest) : "");
  add(limits.smallest ? std::to_string(*limits.smallest) : "");
  add(std::string(selection.mounted_below ? "mounted " : "") + (selection.tagged_caches ? "tagged" : ""));
  return to_hex(digest(as_bytes(text)));
}

}  // namespace kestrum
