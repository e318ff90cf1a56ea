// The built program at a desk of its own: home, source, drive, passphrase file.
#pragma once

#include <gtest/gtest.h>
#include <sys/stat.h>

#include <cstring>

#include "support/program.hpp"
#include "support/temp_folder.hpp"
#include "support/tree.hpp"

namespace kestrum::test {

class Desk {
 public:
  Desk() : program(KESTRUM_BINARY) {
    program.environment["KESTRUM_HOME"] = folder / "home";
    program.environment["KESTRUM_MACHINE"] = "skerry-1";
    std::filesystem::create_directories(source());
    std::filesystem::create_directories(drive());
    write_file(pass(), "tern in the fog\n");
    chmod(pass().c_str(), 0600);
  }
  std::string source() const { return folder / "source"; }
  std::string drive() const { return folder / "drive"; }
  std::string pass() const { return folder / "pass"; }
  Ran define(std::vector<std::string> more = {}, bool encrypted = true) {
    std::vector<std::string> words{
        "job",   "define",     "wardens", "--what-folders", source(), "--where-destinations",
        drive(), "--same-disk"};
    words.push_back(encrypted ? "--protect-passphrase" : "--protect-encryption");
    words.push_back(encrypted ? "file:" + pass() : "none");
    words.insert(words.end(), more.begin(), more.end());
    return program.run(words);
  }
  Ran operator()(const std::vector<std::string>& words) { return program.run(words); }
  std::string job_folder() const { return drive() + "/skerry-1/wardens"; }
  std::string set_folder(int sequence) const {
    char start[16];
    std::snprintf(start, sizeof start, "%06d_", sequence);
    for (const auto& entry : std::filesystem::directory_iterator(job_folder())) {
      if (entry.path().filename().string().starts_with(start)) return entry.path().string();
    }
    return {};
  }

  // Spoils a frame in the middle of its list of files (docs/FORMAT.md section 5), in its first volume: one
  // without which these two names, of its beginning and its end, are still listed, there and in the newest
  // point. False when there is none.
  bool spoil_list(int sequence, const std::string& first, const std::string& last) const {
    const std::string volume = set_folder(sequence) + "/data-001.kvol";
    std::string content = read_file(volume);
    std::vector<std::size_t> frames;
    for (std::size_t at = 96; at < content.size();) {
      if (content[at + 4] == 2) frames.push_back(at);
      std::uint32_t size = 0;
      std::memcpy(&size, content.data() + at + 12, sizeof size);
      at += 32 + size;
    }
    // Where pages of the upper levels lie is left to chance.
    for (std::size_t i = 1; i + 1 < frames.size(); ++i) {
      std::string spoilt = content;
      spoilt[frames[i] + 100] ^= 0x55;
      write_file(volume, spoilt);
      const Ran listed = program.run({"browse", "wardens", "/", "--deep", "--at", std::to_string(sequence)});
      const bool missing = listed.exit == 4 && program.run({"browse", "wardens", "/", "--deep"}).exit == 4;
      if (missing && listed.out.find(first) != std::string::npos &&
          listed.out.find(last) != std::string::npos)
        return true;
    }
    return false;
  }

  TempFolder folder;
  Program program;
};

inline bool holds(const std::string& text, const std::string& part) {
  return text.find(part) != std::string::npos;
}

}  // namespace kestrum::test
