#include "job/presets.hpp"

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {

std::span<const Preset> presets() {
  static const std::vector<Preset> all{
      {"own-files",
       "your own files: documents, pictures, music, video, recordings, mail, desktop",
       {{{"what", "people"}, {"me"}},
        {{"what", "categories"},
         {"documents", "pictures", "music", "video", "recordings", "mail", "desktop"}}}},
      {"homes",
       "everything in the homes of everybody who has an account",
       {{{"what", "people"}, {"everybody"}}, {{"what", "categories"}, {"everything"}}}},
      {"machine",
       "the whole machine without what the system can install again",
       {{{"what", "folders"}, {"/"}},
        {{"what", "skip"},
         {"/usr/", "!/usr/local/", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/boot/", "/snap/",
          "/var/lib/apt/lists/", "/var/lib/dpkg/info/", "/var/lib/flatpak/", "/var/lib/snapd/",
          "/var/log/journal/", "/var/spool/postfix/"}}}},
  };
  return all;
}

const Preset& preset_named(const std::string& name) {
  std::vector<std::string> names;
  for (const Preset& preset : presets()) {
    if (name == preset.name) return preset;
    names.emplace_back(preset.name);
  }
  std::optional<std::string> near = nearest(name, names);
  throw Error(ErrorKind::usage, "there is no preset '" + printable(name) + "'",
              near ? "did you mean '" + *near + "'?" : "the presets are " + join(names, ", "));
}

}  // namespace kestrum
