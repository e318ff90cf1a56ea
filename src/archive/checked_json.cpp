#include "archive/checked_json.hpp"

#include "base/error.hpp"

namespace kestrum {
namespace {

Digest digest_from(std::string_view hex, const std::string& what) {
  Digest value{};
  if (!decode_hex(hex, value)) throw damage(what + " is damaged");
  return value;
}

// Takes `expected` off the front of `rest`, or says that the file is damaged.
void take(std::string_view& rest, std::string_view expected, const std::string& what) {
  if (!rest.starts_with(expected)) throw damage(what + " is damaged");
  rest.remove_prefix(expected.size());
}

}  // namespace

std::string write_checked_json(const std::vector<JsonSection>& sections, const AuthFunction& auth) {
  std::string out = "{\n";
  for (std::size_t i = 0; i < sections.size(); ++i) {
    out += "\"" + sections[i].name + "\":" + sections[i].text + ",\n";
    std::string check =
        "\"" + sections[i].name + "-check\":{\"digest\":\"" + to_hex(digest(as_bytes(out))) + "\"";
    if (auth) check += ",\"auth\":\"" + to_hex(auth(sections[i].name, as_bytes(out))) + "\"";
    out += check + (i + 1 < sections.size() ? "},\n" : "}\n");
  }
  return out + "}\n";
}

CheckedJson read_checked_json(Bytes file, std::initializer_list<const char*> names, bool keyed,
                              const std::string& what) {
  CheckedJson out;
  out.file = std::move(file);
  const std::string_view all = as_text(out.file);
  std::string_view rest = all;
  constexpr std::size_t hex_size = 2 * sizeof(Digest);
  out.sections.reserve(names.size());
  DigestStream stream;
  std::size_t digested = 0;
  take(rest, "{\n", what);
  for (const char* name : names) {
    CheckedJson::Section section{.name = name};
    take(rest, "\"", what);
    take(rest, name, what);
    take(rest, "\":", what);
    section.begin = all.size() - rest.size();
    std::size_t line = rest.find('\n');
    if (line == 0 || line == std::string_view::npos) throw damage(what + " is damaged");
    section.size = line - 1;
    rest.remove_prefix(section.size);
    take(rest, ",\n", what);
    section.before = all.size() - rest.size();
    take(rest, "\"", what);
    take(rest, name, what);
    take(rest, "-check\":{\"digest\":\"", what);
    section.digest = digest_from(rest.substr(0, hex_size), what);
    stream.update(as_bytes(all.substr(digested, section.before - digested)));
    digested = section.before;
    if (section.digest != stream.so_far()) throw damage(what + " is damaged: its digest does not hold");
    rest.remove_prefix(hex_size);
    if (keyed) {
      take(rest, "\",\"auth\":\"", what);
      section.auth = digest_from(rest.substr(0, hex_size), what);
      rest.remove_prefix(hex_size);
    }
    out.sections.push_back(section);
    take(rest, out.sections.size() < names.size() ? "\"},\n" : "\"}\n", what);
  }
  take(rest, "}\n", what);
  if (!rest.empty()) throw damage(what + " is damaged");
  return out;
}

bool CheckedJson::authentic(const AuthFunction& auth) const {
  for (const Section& section : sections) {
    if (auth(section.name, ByteView(file).first(section.before)) != section.auth) return false;
  }
  return true;
}

}  // namespace kestrum
