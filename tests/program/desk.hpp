// The built program at a desk of its own: home, source, drive, passphrase file.
#pragma once

#include <gtest/gtest.h>
#include <sys/stat.h>

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

  TempFolder folder;
  Program program;
};

inline bool holds(const std::string& text, const std::string& part) {
  return text.find(part) != std::string::npos;
}

}  // namespace kestrum::test
