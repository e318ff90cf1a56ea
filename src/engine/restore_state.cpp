#include "engine/restore_state.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "archive/file_view.hpp"
#include "archive/sha256.hpp"
#include "base/text.hpp"
#include "engine/problem_list.hpp"

namespace kestrum {
namespace {

FileAttributes saved_attributes(const Entry& entry, PointReader& reader) {
  FileAttributes out;
  out.mode = entry.mode;
  out.owner = entry.owner;
  out.group = entry.group;
  out.owner_name = entry.owner_name;
  out.group_name = entry.group_name;
  out.modified = entry.modified;
  std::vector<Attribute> list = entry.attributes;
  if (entry.attribute_chunk) {
    Bytes chunk = reader.fetch(*entry.attribute_chunk);
    ByteReader in(chunk);
    list = read_attributes(in);
    in.expect_end();
  }
  for (Attribute& attribute : list)
    out.extended.emplace_back(std::move(attribute.name), std::move(attribute.value));
  return out;
}

// "2027-03-14 20-30", fit for a file's name.
std::string stamp_of(Instant when) {
  std::string stamp = local_text(when);
  std::replace(stamp.begin(), stamp.end(), ':', '-');
  return stamp;
}

std::string operation_of(const AttributeLoss& loss) {
  switch (loss.what) {
    case AttributeLoss::What::owner:
      return "set the owner of";
    case AttributeLoss::What::mode:
      return "set the mode of";
    case AttributeLoss::What::attribute:
      return "set the attribute " + printable(loss.name) + " of";
    case AttributeLoss::What::time:
      return "set the time of";
    case AttributeLoss::What::look:
      break;
  }
  return "look again at";
}

}  // namespace

RestoreState::RestoreState(OpenPoint& open_point, const RestoreRequest& asked, Observer& watching,
                           RunControl& steering, const std::function<void(const RestoredItem&)>& each)
    : point(open_point),
      request(asked),
      observer(watching),
      control(steering),
      item(each),
      stamp(stamp_of(open_point.facts().started)),
      source_(&open_point) {
  result.point = point.facts();
}

void RestoreState::read_from(OpenPoint& source) {
  source_ = &source;
  stamp = stamp_of(source.facts().started);
}

std::string RestoreState::digest_of(const Entry& entry) {
  if (!request.digests || !entry.has_content()) return {};
  Sha256 digest;
  FileView(reader(), entry).each(0, entry.size, [&](std::uint64_t length, ByteView content) {
    control.checkpoint();
    content.empty() ? digest.zeros(length) : digest.update(content);
  });
  return digest.finish();
}

void RestoreState::problem(const TreePath& path, const std::string& operation, const std::string& reason) {
  add_problem(result.problems, observer, {path.absolute(), operation, reason});
}

void RestoreState::done(const Entry& entry, const TreePath& placed, RestoreFate fate, std::string sha256) {
  if (fate == RestoreFate::kept || fate == RestoreFate::same) {
    ++(fate == RestoreFate::kept ? result.kept : result.same);
    return tell(entry, placed, fate, std::move(sha256));
  }
  result.nearest += source_ != &point ? 1 : 0;
  if (entry.has_content()) {
    ++result.files;
    result.bytes += entry.size;
  } else {
    ++result.others;
  }
  result.beside += fate == RestoreFate::beside ? 1 : 0;
  result.replaced += fate == RestoreFate::replaces ? 1 : 0;
  tell(entry, placed, fate, std::move(sha256));
}

void RestoreState::tell(const Entry& entry, const TreePath& placed, RestoreFate fate, std::string sha256) {
  if (!item) return;
  const bool below = request.into == RestoreInto::folder && request.target != "/";
  std::string where = request.into == RestoreInto::archive ? placed.joined()
                      : below                              ? request.target + placed.absolute()
                                                           : placed.absolute();
  item({entry.path, where, entry.type, entry.size, fate, source_->facts().sequence, std::move(sha256)});
}

// What would give somebody rights that he had no part in giving: a program that runs as its owner above all.
void RestoreState::hold_back(FileAttributes& attributes) {
  constexpr std::uint32_t set_id = S_ISUID | S_ISGID;
  std::size_t all = attributes.extended.size();
  std::erase_if(attributes.extended, [](const auto& attribute) {
    return attribute.first.starts_with("security.") || attribute.first.starts_with("trusted.");
  });
  bool lost = (attributes.mode & set_id) != 0 || attributes.extended.size() != all;
  attributes.mode &= ~set_id;
  attributes.give_owner = false;
  result.unproved_kept_back = result.unproved_kept_back || lost;
}

bool RestoreState::has_its_owner(const Entry& entry, std::uint32_t user, std::uint32_t group) {
  if (geteuid() != 0) return true;  // who else could give it away
  if (request.owner) return user == request.owner->user && group == request.owner->group;
  if (request.owners == OwnersAs::mine || !trusts()) return true;
  if (request.owners == OwnersAs::numbers) return user == entry.owner && group == entry.group;
  return user == owners_.user(entry.owner_name, entry.owner) &&
         group == owners_.group(entry.group_name, entry.group);
}

FileAttributes RestoreState::attributes_of(const Entry& entry) {
  FileAttributes attributes;
  try {
    attributes = saved_attributes(entry, reader());
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    result.damaged = result.damaged || !is_of_the_system(error);
    problem(entry.path, "restore the attributes of", error.what());
    Entry bare = entry;
    bare.attribute_chunk.reset();
    attributes = saved_attributes(bare, reader());
  }
  if (!trusts()) hold_back(attributes);
  // A program that runs as its owner is for its own place, and for root to put there.
  constexpr std::uint32_t set_id = S_ISUID | S_ISGID;
  const bool in_its_place = request.in_place && geteuid() == 0;
  if (!in_its_place && !request.with_set_id && entry.type == EntryType::file &&
      (attributes.mode & set_id) != 0) {
    attributes.mode &= ~set_id;
    ++result.set_id_left;
  }
  if (request.owners == OwnersAs::numbers) {
    attributes.owner_name.clear();
    attributes.group_name.clear();
  }
  if (request.owners == OwnersAs::mine) attributes.give_owner = false;
  if (request.owner) {
    attributes.owner = request.owner->user;
    attributes.group = request.owner->group;
    attributes.owner_name.clear();
    attributes.group_name.clear();
    attributes.give_owner = true;
  }
  return attributes;
}

void RestoreState::apply(const Entry& entry, const TargetObject& object) {
  AttributeResult applied = apply_attributes(object, attributes_of(entry), owners_);
  // Who is not root could not have given it away in any case.
  bool held = !trusts() && !request.owner && geteuid() == 0;
  result.unproved_kept_back = result.unproved_kept_back || (held && applied.owner_kept_back);
  const bool wanted_so = request.owners == OwnersAs::mine;
  result.owners_kept_back = result.owners_kept_back || (!held && !wanted_so && applied.owner_kept_back);
  for (const AttributeLoss& loss : applied.losses) lose(entry.path, operation_of(loss), loss.reason);
}

void RestoreState::lose(const TreePath& path, const std::string& operation, const std::string& reason) {
  Loss& lost = losses_[{operation, reason}];
  if (lost.count++ == 0) lost.first = path;
}

void RestoreState::tell_losses() {
  result.unknown_owners = owners_.unknown();
  for (const auto& [what, loss] : losses_) {
    std::string more = loss.count == 1 ? "" : "; the same for " + grouped(loss.count - 1) + " more";
    problem(loss.first, what.first, what.second + more);
  }
  losses_.clear();
}

void check_target(int code, const char* what, const RestoreRequest& request) {
  if (code == ENOSPC || code == EDQUOT)
    throw Error(ErrorKind::full, "there is no space left in " + printable(request.target),
                "free some, or restore to another drive");
  if (code != 0) throw Error(ErrorKind::failed, std::string("cannot ") + what + ": " + system_reason(code));
}

}  // namespace kestrum
