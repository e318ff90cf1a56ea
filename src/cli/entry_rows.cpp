#include "cli/entry_rows.hpp"

#include "base/text.hpp"
#include "calendar/local_time.hpp"

namespace kestrum {
namespace {

std::string mode_text(const Entry& entry) {
  // The letters of "ls": no entry, folder, file, link, FIFO, devices, socket, image of a device.
  std::string text(1, "?d-lpcbs-"[static_cast<std::size_t>(entry.type)]);
  const char* letters = "rwxrwxrwx";
  for (int i = 0; i < 9; ++i) text += (entry.mode >> (8 - i) & 1) != 0 ? letters[i] : '-';
  return text;
}

}  // namespace

std::vector<std::string> entry_row(const Entry& entry, const std::string& shown, Today today,
                                   std::optional<std::uint64_t> below) {
  std::string size = entry.has_content()               ? size_text(entry.size)
                     : entry.type == EntryType::folder ? (below ? size_text(*below) : "folder")
                                                       : std::string(entry_type_name(entry.type));
  std::string name = printable(shown) + (entry.type == EntryType::folder && !shown.ends_with('/') ? "/" : "");
  if (entry.type == EntryType::symlink) name += " -> " + printable(entry.link_target);
  if (entry.type == EntryType::device_image) name += "  (image of the device)";
  if (entry.incomplete) name += "  (incomplete)";
  if (entry.carried_from) name += "  (as it was on " + local_text(*entry.carried_from) + ")";
  if (entry.changed_while_read) name += "  (changed while it was read)";
  // What is as it was needs no word.
  if (today == Today::gone || today == Today::differs)
    name += std::string("  (") + (today == Today::gone ? "gone" : "different") + " today)";
  std::string owner = entry.owner_name.empty() ? std::to_string(entry.owner) : printable(entry.owner_name);
  return {mode_text(entry), owner, size, local_text(entry.modified), name};
}

Table entry_table() {
  using enum Table::Align;
  return Table({{"MODE", left}, {"OWNER", left}, {"SIZE", right}, {"CHANGED", left}, {"NAME", left}});
}

}  // namespace kestrum
