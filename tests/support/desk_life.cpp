#include "support/desk_life.hpp"

#include <fcntl.h>
#include <sys/stat.h>

#include <algorithm>
#include <filesystem>
#include <functional>

#include "support/temp_folder.hpp"

namespace kestrum::test {

namespace fs = std::filesystem;

DeskLife::DeskLife(std::string folder, unsigned seed) : folder_(std::move(folder)), random_(seed) {
  folders_ = {"ringing", "moths", "photos", "sounds", "office", "tools", "private"};
  for (const std::string& one : folders_) fs::create_directories(folder_ + "/" + one);
  const std::size_t size = 150 + pick(250);
  for (std::size_t i = 0; i < size; ++i) {
    static const std::pair<const char*, const char*> kinds[] = {
        {"ringing", "csv"},   {"moths", "txt"},   {"photos", "jpg"}, {"photos", "jpg"},
        {"sounds", "wav"},    {"office", "docx"}, {"office", "pdf"}, {"tools", "bin"},
        {"private", "vault"}, {"moths", "log"},   {"office", "db"}};
    const auto& [where, type] = kinds[pick(std::size(kinds))];
    add(where, type);
  }
}

std::string DeskLife::noise(std::size_t size) {
  std::string out(size, '\0');
  for (char& c : out) c = static_cast<char>(random_());
  return out;
}

// As such files begin and go on.
std::string DeskLife::content(const std::string& type, std::size_t size) {
  if (type == "jpg") return "\xff\xd8\xff\xe0 JFIF" + noise(size);
  if (type == "wav") return "RIFF....WAVEfmt " + noise(size);
  if (type == "flac") return "fLaC" + noise(size);
  if (type == "docx") return std::string("PK\x03\x04", 4) + noise(size);
  if (type == "pdf") return "%PDF-1.7\n" + noise(size);
  if (type == "gz") return "\x1f\x8b" + noise(size);
  if (type == "db") return std::string("SQLite format 3\0", 16) + noise(size / 4) + std::string(size, 'p');
  if (type == "vault") return noise(size);  // what somebody encrypts on purpose
  if (type == "bin") {
    std::string out = noise(size);
    for (std::size_t i = 0; i < out.size(); i += 2) out[i] = static_cast<char>(i % 7);
    return out;
  }
  std::string text;
  while (text.size() < size)
    text +=
        "SP" + std::to_string(random_() % 100000) + ",Turnstone," + std::to_string(random_() % 300) + "\n";
  return text;
}

void DeskLife::write(const File& file, const std::string& content) const {
  write_file(folder_ + "/" + file.path, content);
}

void DeskLife::add(const std::string& folder, const std::string& type) {
  File file{folder + "/" + type + "-" + std::to_string(next_++) + "." + type, type};
  write(file, content(type, 100 + pick(5000)));
  files_.push_back(std::move(file));
}

void DeskLife::edit(const File& file) {
  const std::string path = folder_ + "/" + file.path;
  const bool grows = file.type == "csv" || file.type == "txt" || file.type == "log";
  write(file, grows ? read_file(path) + content(file.type, 60) : content(file.type, 100 + pick(5000)));
}

void DeskLife::remove(std::size_t place) {
  fs::remove(folder_ + "/" + files_[place].path);
  files_.erase(files_.begin() + static_cast<std::ptrdiff_t>(place));
}

void DeskLife::edits(double share) {
  const auto count = static_cast<std::size_t>(share * static_cast<double>(files_.size())) + 1;
  for (std::size_t i = 0; i < count && !files_.empty(); ++i) edit(files_[pick(files_.size())]);
}

void DeskLife::import(std::size_t count, const std::string& type) {
  const std::string folder = "photos/import-" + std::to_string(next_++);
  fs::create_directories(folder_ + "/" + folder);
  folders_.push_back(folder);
  for (std::size_t i = 0; i < count; ++i) add(folder, type);
}

// A whole folder goes into another one, and single files get other names.
void DeskLife::reorganise() {
  const std::string from = folders_[pick(folders_.size())];
  const std::string to = "archive/" + std::to_string(next_++) + "-" + fs::path(from).filename().string();
  fs::create_directories(folder_ + "/" + to);
  for (File& file : files_) {
    if (fs::path(file.path).parent_path() != from) continue;
    const std::string now = to + "/" + std::to_string(next_++) + "." + file.type;
    fs::rename(folder_ + "/" + file.path, folder_ + "/" + now);
    file.path = now;
  }
  folders_.push_back(to);
}

void DeskLife::clear_out() {
  const std::size_t count = files_.size() / (6 + pick(8));
  for (std::size_t i = 0; i < count && files_.size() > 60; ++i) remove(pick(files_.size()));
}

void DeskLife::touch_up() {
  const std::string folder = folders_[pick(folders_.size())];
  for (const File& file : files_) {
    if (fs::path(file.path).parent_path() == folder && file.type == "jpg") edit(file);
  }
}

void DeskLife::convert() {
  for (File& file : files_) {
    if (file.type != "wav" || pick(3) == 0) continue;
    fs::remove(folder_ + "/" + file.path);
    file.type = "flac";
    file.path = fs::path(file.path).replace_extension("flac").string();
    write(file, content("flac", 100 + pick(3000)));
  }
}

void DeskLife::pack() {
  for (File& file : files_) {
    if (file.type != "log" || pick(2) == 0) continue;
    fs::remove(folder_ + "/" + file.path);
    file.type = "gz";
    file.path += ".gz";
    write(file, content("gz", 400));
  }
  add("moths", "log");
}

void DeskLife::update() {
  for (const File& file : files_) {
    if (file.type == "bin") edit(file);
  }
}

std::string DeskLife::day() {
  ++day_;
  std::string what = "edits";
  edits(0.005 + static_cast<double>(pick(25)) / 1000);
  for (std::size_t i = pick(6); i > 0; --i) add(folders_[pick(folders_.size())], i % 2 == 0 ? "jpg" : "csv");
  if (files_.size() > 100 && pick(2) == 0) remove(pick(files_.size()));
  const auto also = [&](std::size_t once_in, const char* name, const std::function<void()>& act) {
    if (pick(once_in) != 0) return;
    act();
    what += std::string(", ") + name;
  };
  also(15, "an import", [&] { import(20 + pick(150), pick(4) == 0 ? "wav" : "jpg"); });
  also(60, "an import of vaults", [&] { import(10 + pick(20), "vault"); });
  also(30, "re-organising", [&] { reorganise(); });
  also(90, "clearing out", [&] { clear_out(); });
  also(40, "touching up", [&] { touch_up(); });
  also(120, "a conversion", [&] { convert(); });
  also(30, "packing of logs", [&] { pack(); });
  also(60, "an update", [&] { update(); });
  // So many that a year stays quick.
  while (files_.size() > 1200) remove(pick(files_.size()));
  return what;
}

std::size_t DeskLife::encrypt(Thief thief, double share) {
  std::shuffle(files_.begin(), files_.end(), random_);
  const auto count =
      std::max<std::size_t>(1, static_cast<std::size_t>(share * static_cast<double>(files_.size())));
  for (std::size_t i = 0; i < count; ++i) {
    File& file = files_[i];
    const std::string path = folder_ + "/" + file.path;
    struct stat before {};
    stat(path.c_str(), &before);
    const auto size = static_cast<std::size_t>(before.st_size);
    write(file, noise(thief == Thief::keeps_sizes_and_times ? size : size + 48));
    if (thief == Thief::keeps_sizes_and_times) {
      const timespec times[] = {before.st_atim, before.st_mtim};
      utimensat(AT_FDCWD, path.c_str(), times, 0);
    }
    if (thief != Thief::renames) continue;
    fs::rename(path, path + ".fulmar");
    file.path += ".fulmar";
    file.type = "fulmar";
  }
  return count;
}

}  // namespace kestrum::test
