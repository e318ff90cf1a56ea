#include "archive/checked_json.hpp"

#include "base/error.hpp"

namespace kestrum {
namespace {

Digest digest_from(std::string_view hex, const std::string& what) {
  std::optional<Bytes> bytes = from_hex(hex);
  Digest value{};
  if (!bytes || bytes->size() != value.size()) throw damage(what + " is damaged");
  std::copy(bytes->begin(), bytes->end(), value.begin());
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

CheckedJson read_checked_json(ByteView file, const std::vector<std::string>& names, bool keyed,
                              const std::string& what) {
  CheckedJson out;
  std::string_view all = as_text(file);
  std::string_view rest = all;
  constexpr std::size_t hex_size = 2 * sizeof(Digest);
  take(rest, "{\n", what);
  for (std::size_t i = 0; i < names.size(); ++i) {
    take(rest, "\"" + names[i] + "\":", what);
    std::size_t end = rest.find(",\n");
    if (end == std::string_view::npos) throw damage(what + " is damaged");
    out.sections.push_back({names[i], std::string(rest.substr(0, end))});
    rest.remove_prefix(end + 2);
    ByteView before = file.first(all.size() - rest.size());
    take(rest, "\"" + names[i] + "-check\":{\"digest\":\"", what);
    Digest stated = digest_from(rest.substr(0, hex_size), what);
    if (stated != digest(before)) throw damage(what + " is damaged: its digest does not hold");
    rest.remove_prefix(hex_size);
    out.digests.push_back(stated);
    if (keyed) {
      take(rest, "\",\"auth\":\"", what);
      out.auths.push_back(
          {names[i], Bytes(before.begin(), before.end()), digest_from(rest.substr(0, hex_size), what)});
      rest.remove_prefix(hex_size);
    }
    take(rest, i + 1 < names.size() ? "\"},\n" : "\"}\n", what);
  }
  take(rest, "}\n", what);
  if (!rest.empty()) throw damage(what + " is damaged");
  return out;
}

bool CheckedJson::authentic(const AuthFunction& auth) const {
  for (const Pending& pending : auths) {
    if (auth(pending.section, pending.before) != pending.auth) return false;
  }
  return true;
}

}  // namespace kestrum
