#include "engine/destination_note.hpp"

#include <fcntl.h>
#include <sys/utsname.h>

#include <array>
#include <fstream>
#include <set>

#include "archive/crypto.hpp"
#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

constexpr const char* own_program = "/proc/self/exe";
const std::string program_file = std::string(program_folder_name) + "/kestrum";
const std::string needs_file = std::string(program_folder_name) + "/needs.txt";

// Called with one piece after the other.
template <typename Use>
std::uint64_t each_piece_of_program(Use&& use) {
  FileHandle file(open(own_program, O_RDONLY | O_CLOEXEC));
  if (!file) throw system_error("read", own_program, errno);
  std::array<std::uint8_t, 1u << 18> piece;
  std::uint64_t size = 0;
  while (true) {
    const ssize_t got = read_full(file.get(), piece.data(), piece.size(), static_cast<off_t>(size));
    if (got < 0) throw system_error("read", own_program, errno);
    use(ByteView(piece).first(static_cast<std::size_t>(got)));
    size += static_cast<std::uint64_t>(got);
    if (static_cast<std::size_t>(got) < piece.size()) return size;
  }
}

// The libraries that this very process has loaded.
std::set<std::string> libraries() {
  std::set<std::string> names;
  std::ifstream maps("/proc/self/maps");
  for (std::string line; std::getline(maps, line);) {
    const std::size_t slash = line.rfind('/');
    if (slash == std::string::npos || line.find(".so", slash) == std::string::npos) continue;
    names.insert(line.substr(slash + 1));
  }
  return names;
}

std::string needs_text(const std::string& digest_text) {
  utsname system{};
  uname(&system);
  std::string text = "The program 'kestrum' beside this file was built for Linux on " +
                     std::string(system.machine) +
                     " (Debian 12). Drives often cannot run programs; copy it first:\n\n"
                     "  cp kestrum /tmp/kestrum\n"
                     "  chmod +x /tmp/kestrum\n"
                     "  /tmp/kestrum help\n\n"
                     "It needs these libraries, which are in Debian's packages:\n\n";
  for (const std::string& name : libraries()) text += "  " + name + "\n";
  return text + "\nIts digest: " + digest_text + "\n";
}

void leave_program(Store& store) {
  DigestStream stream;
  const std::uint64_t size = each_piece_of_program([&](ByteView piece) { stream.update(piece); });
  const std::string needs = needs_text(to_hex(stream.finish()));
  store.make_folder(program_folder_name);
  const std::unique_ptr<StoreReader> there = store.try_open(program_file);
  if (there && there->size() == size && store.holds(needs_file, as_bytes(needs)) == true) return;
  // The text goes first: a program that is only half there is written again.
  store.remove(needs_file);
  store.remove(program_file);
  try {
    const std::unique_ptr<StoreWriter> writer = store.create(program_file);
    each_piece_of_program([&](ByteView piece) { writer->append(piece); });
    writer->finish();
  } catch (const Error&) {
    store.remove(program_file);  // the room is the sets'
    throw;
  }
  store.put(needs_file, as_bytes(needs));
}

}  // namespace

std::string note_text(bool with_program) {
  return std::string(
             "WHAT THIS IS\n\n"
             "The folders beside this file hold backups: copies of somebody's files, made by the program "
             "Kestrum\n"
             "(archive format 1). Please do not change, move or delete anything here. If you have found this "
             "drive,\n"
             "whoever lost it will be glad to have it back.\n\n"
             "HOW FILES COME BACK\n\n") +
         (with_program
              ? "1. A copy of the program lies in the folder kestrum-program; needs.txt there says how to "
                "start it.\n"
              : "1. Install Kestrum on a computer with Linux (Debian 12 or later).\n") +
         "2. Connect this drive, and open a terminal. For DIR below write the folder that this file is in.\n"
         "3. What is there:                 kestrum points DIR\n"
         "4. Choose files and a target:     kestrum restore DIR\n"
         "5. Look for a part of a name:     kestrum find DIR budget\n"
         "6. The job again, on a new machine: kestrum job rebuild NAME --from DIR\n\n"
         "If the backups are encrypted, the passphrase or the recovery key is asked for. Without one of "
         "these\n"
         "nobody can open them, and neither of them is on this drive.\n\n"
         "How the files are built, byte by byte, is written in the program's docs/FORMAT.md.\n\n"
         "(This file is written by the program, and written again when somebody has changed it.)\n";
}

void leave_note(Store& store, bool with_program) {
  // Another job may have left it.
  const std::string text = note_text(with_program || store.exists(needs_file));
  if (with_program) leave_program(store);
  if (store.holds(note_file_name, as_bytes(text)) != true) store.put(note_file_name, as_bytes(text));
}

}  // namespace kestrum
