// The outer form of drive.json, job.json, open.json and the seals: docs/FORMAT.md section 3.
#pragma once

#include <functional>

#include "archive/crypto.hpp"

namespace kestrum {

// `auth` of a section over the bytes before its check; only for files that need a key.
using AuthFunction = std::function<Digest(const std::string& section, ByteView before)>;

struct JsonSection {
  std::string name;
  std::string text;  // one line of JSON
};

std::string write_checked_json(const std::vector<JsonSection>& sections, const AuthFunction& auth);

// A file whose form and digests hold. `authentic` is asked separately, when there is a key.
struct CheckedJson {
  Bytes file;  // what the places below are in
  struct Section {
    const char* name = nullptr;
    std::size_t begin = 0, size = 0;  // of its JSON
    std::size_t before = 0;           // bytes before its check
    Digest digest{};                  // of those
    Digest auth{};                    // of those, with a key; zeros where there is none
  };
  std::vector<Section> sections;
  std::string_view text(std::size_t section) const {
    return as_text(file).substr(sections[section].begin, sections[section].size);
  }
  bool authentic(const AuthFunction& auth) const;
};

// Throws Error of kind damage unless the file has exactly the sections named and each digest holds. `what`
// names the file in the message; `keyed`: whether checks carry an `auth`. Names must live as long as the
// result.
CheckedJson read_checked_json(Bytes file, std::initializer_list<const char*> names, bool keyed,
                              const std::string& what);

}  // namespace kestrum
