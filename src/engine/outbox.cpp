#include "engine/outbox.hpp"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "base/error.hpp"

namespace kestrum {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

constexpr std::size_t most_bytes = 4u << 20;
constexpr const char* memory_name = "memory";  // no mail has that name

Instant instant_of(const Json& json) {
  return parse_utc(json.get<std::string>()).value_or(Instant());
}

OutgoingMail mail_of(const Json& json) {
  OutgoingMail mail;
  mail.id = json.at("id").get<std::string>();
  mail.to = json.at("to").get<std::vector<std::string>>();
  mail.left = json.at("left").get<std::vector<std::string>>();
  mail.from = json.at("from").get<std::string>();
  mail.subject = json.at("subject").get<std::string>();
  mail.text = json.at("text").get<std::string>();
  mail.html = json.at("html").get<std::string>();
  mail.made = instant_of(json.at("made"));
  mail.tries = json.at("tries").get<unsigned>();
  mail.next = instant_of(json.at("next"));
  mail.trouble = json.at("trouble").get<std::string>();
  mail.told = json.at("told").get<std::map<std::string, std::string>>();
  mail.away = instant_of(json.at("away"));
  return mail;
}

Json json_of(const OutgoingMail& mail) {
  return {{"version", 1},
          {"id", mail.id},
          {"to", mail.to},
          {"left", mail.left},
          {"from", mail.from},
          {"subject", mail.subject},
          {"made", utc_text(mail.made)},
          {"tries", mail.tries},
          {"next", utc_text(mail.next)},
          {"trouble", mail.trouble},
          {"told", mail.told},
          {"away", utc_text(mail.away)},
          {"text", mail.text},
          {"html", mail.html}};
}

std::optional<Json> read_json(const std::string& path) {
  try {
    const Bytes text = read_small_file(path, most_bytes);
    return Json::parse(text.begin(), text.end());
  } catch (const std::exception&) {
    return std::nullopt;
  }
}

void write_json(const std::string& path, const Json& json) {
  const std::string text = json.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
  replace_file(path, as_bytes(text), 0600);
}

std::vector<OutgoingMail> mails_in(const std::string& folder, bool move_aside) {
  std::vector<OutgoingMail> mails;
  std::error_code code;
  for (fs::directory_iterator one(folder, code), end; !code && one != end; one.increment(code)) {
    const fs::path path = one->path();
    if (path.extension() != ".json" || path.stem() == memory_name) continue;
    const std::optional<Json> json = read_json(path);
    try {
      if (json) mails.push_back(mail_of(*json));
      if (json && mails.back().id == path.stem() && !mails.back().left.empty()) continue;
      if (json) mails.pop_back();
    } catch (const Json::exception&) {
      // As one that does not read.
    }
    if (move_aside) rename(path.c_str(), (path.string() + ".damaged").c_str());
  }
  std::sort(mails.begin(), mails.end(), [](const OutgoingMail& a, const OutgoingMail& b) {
    return std::pair(a.made, a.id) < std::pair(b.made, b.id);
  });
  return mails;
}

}  // namespace

std::optional<Outbox> Outbox::open(const Home& home) {
  const std::string folder = home.outbox_folder();
  home.make_folder_of(folder + "/lock");
  const std::string again = folder + "/again";
  if (const FileHandle mark(::open(again.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0600)); !mark)
    throw system_error("write", again, errno);
  FileHandle lock(::open((folder + "/lock").c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600));
  if (!lock) throw system_error("write", folder + "/lock", errno);
  if (flock(lock.get(), LOCK_EX | LOCK_NB) != 0) return std::nullopt;
  Outbox box(folder, std::move(lock));
  box.asked_again();
  return box;
}

Outbox::Outbox(std::string folder, FileHandle lock) : folder_(std::move(folder)), lock_(std::move(lock)) {
  const std::optional<Json> json = read_json(path(memory_name));
  if (!json) return;
  try {
    for (const Json& one : json->at("recipients"))
      memories_[one.at("to").get<Recipients>()] = {instant_of(one.at("made")), instant_of(one.at("away"))};
  } catch (const Json::exception&) {
    // It is kept anew: the worst is a mail sooner than usual.
  }
}

bool Outbox::asked_again() {
  return unlink((folder_ + "/again").c_str()) == 0;
}

bool Outbox::is_asked(const Home& home) {
  return access((home.outbox_folder() + "/again").c_str(), F_OK) == 0;
}

std::vector<OutgoingMail> Outbox::mails() const {
  return mails_in(folder_, true);
}
void Outbox::put(const OutgoingMail& mail) {
  write_json(path(mail.id), json_of(mail));
}
void Outbox::remove(const std::string& id) {
  if (unlink(path(id).c_str()) != 0 && errno != ENOENT) throw system_error("remove", path(id), errno);
}

std::optional<RecipientsMemory> Outbox::memory(const Recipients& to) const {
  const auto found = memories_.find(to);
  return found == memories_.end() ? std::nullopt : std::optional(found->second);
}
void Outbox::remember(const Recipients& to, const RecipientsMemory& memory) {
  memories_[to] = memory;
  save();
}
void Outbox::look_again(std::optional<Instant> when) {
  look_again_ = when;
  save();
}

void Outbox::save() const {
  Json json{{"version", 1}, {"look-again", look_again_ ? Json(utc_text(*look_again_)) : Json(nullptr)}};
  json["recipients"] = Json::array();
  for (const auto& [to, memory] : memories_)
    json["recipients"].push_back(
        {{"to", to}, {"made", utc_text(memory.made)}, {"away", utc_text(memory.away)}});
  write_json(path(memory_name), json);
}

OutboxLook look_at_outbox(const Home& home) {
  OutboxLook look;
  const std::optional<Json> json = read_json(home.outbox_folder() + "/" + memory_name + ".json");
  if (json && json->is_object() && json->contains("look-again") && (*json)["look-again"].is_string())
    look.look_again = parse_utc((*json)["look-again"].get<std::string>());
  for (const OutgoingMail& mail : mails_in(home.outbox_folder(), false)) {
    ++look.waiting;
    if (mail.trouble.empty() || !look.trouble.empty()) continue;
    look.trouble = mail.trouble;
    look.to = mail.left;
    look.since = mail.made;
  }
  return look;
}

std::int64_t retry_seconds(unsigned tries) {
  constexpr std::int64_t minute = 60;
  return tries <= 1 ? 5 * minute : tries == 2 ? 15 * minute : 60 * minute;
}

}  // namespace kestrum
