// A desk at the observatory as it is used: lists, pictures, recordings, a database, what people encrypt
// themselves; with days of work, imports and re-organising, and with somebody who encrypts it.
#pragma once

#include <random>
#include <string>
#include <vector>

namespace kestrum::test {

class DeskLife {
 public:
  // Begins with some hundred files below `folder`.
  DeskLife(std::string folder, unsigned seed);
  // What was done, for messages: "edits, an import of 120 pictures".
  std::string day();

  enum class Thief {
    keeps_names,            // content goes, names stay
    keeps_sizes_and_times,  // names, sizes and times of modification stay
    renames,                // names get another ending
  };
  // That share of all files, in the way of the thief. Returns how many.
  std::size_t encrypt(Thief thief, double share);
  std::size_t files() const { return files_.size(); }

 private:
  struct File {
    std::string path;  // below the folder
    std::string type;  // ending
  };
  std::string content(const std::string& type, std::size_t size);
  std::string noise(std::size_t size);
  void write(const File& file, const std::string& content) const;
  void add(const std::string& folder, const std::string& type);
  void edit(const File& file);
  void remove(std::size_t place);
  void edits(double share);
  void import(std::size_t count, const std::string& type);
  void reorganise();
  void clear_out();
  void touch_up();  // all pictures of a folder, by some tool
  void convert();   // recordings into another format
  void pack();      // logs
  void update();    // of a program that lies among the files
  std::size_t pick(std::size_t count) { return static_cast<std::size_t>(random_() % count); }

  std::string folder_;
  std::mt19937 random_;
  std::vector<File> files_;
  std::vector<std::string> folders_;
  unsigned next_ = 1;
  unsigned day_ = 0;
};

}  // namespace kestrum::test
