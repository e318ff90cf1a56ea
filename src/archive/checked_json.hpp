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
  std::vector<JsonSection> sections;
  std::vector<Digest> digests;  // one a section: of all bytes before its check
  struct Pending {
    std::string section;
    Bytes before;
    Digest auth;
  };
  std::vector<Pending> auths;
  bool authentic(const AuthFunction& auth) const;
};

// Throws Error of kind damage unless the file has exactly the sections named and each digest holds. `what`
// names the file in the message; `keyed`: whether checks carry an `auth`.
CheckedJson read_checked_json(ByteView file, const std::vector<std::string>& names, bool keyed,
                              const std::string& what);

}  // namespace kestrum
