// Writes what each target begins with: FOLDER/TARGET/seed-N. --list: their names.
#include <filesystem>
#include <fstream>
#include <iostream>

#include "support/fuzz_targets.hpp"

int main(int count, char** words) {
  if (count != 2) return 2;
  if (std::string(words[1]) == "--list") {
    for (const kestrum::test::FuzzTarget& target : kestrum::test::fuzz_targets())
      std::cout << target.name << "\n";
    return 0;
  }
  for (const kestrum::test::FuzzTarget& target : kestrum::test::fuzz_targets()) {
    const std::filesystem::path folder = std::filesystem::path(words[1]) / target.name;
    std::filesystem::create_directories(folder);
    int number = 0;
    for (const kestrum::Bytes& seed : kestrum::test::fuzz_seeds(target.name))
      std::ofstream(folder / ("seed-" + std::to_string(++number)), std::ios::binary)
          .write(reinterpret_cast<const char*>(seed.data()), static_cast<std::streamsize>(seed.size()));
  }
}
