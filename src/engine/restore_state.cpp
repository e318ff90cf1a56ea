#include "engine/restore_state.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "base/text.hpp"
#include "engine/problem_list.hpp"

namespace kestrum {
namespace {

FileAttributes attributes_of(const Entry& entry, PointReader& reader) {
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
      stamp(stamp_of(open_point.facts().started)) {
  result.point = point.facts();
}

void RestoreState::problem(const TreePath& path, const std::string& operation, const std::string& reason) {
  add_problem(result.problems, observer, {path.absolute(), operation, reason});
}

void RestoreState::done(const Entry& entry, const TreePath& placed, RestoreFate fate) {
  if (fate == RestoreFate::kept || fate == RestoreFate::same) {
    ++(fate == RestoreFate::kept ? result.kept : result.same);
    return tell(entry, placed, fate);
  }
  if (entry.has_content()) {
    ++result.files;
    result.bytes += entry.size;
  } else {
    ++result.others;
  }
  result.beside += fate == RestoreFate::beside ? 1 : 0;
  result.replaced += fate == RestoreFate::replaces ? 1 : 0;
  tell(entry, placed, fate);
}

void RestoreState::tell(const Entry& entry, const TreePath& placed, RestoreFate fate) {
  if (!item) return;
  std::string where = request.target == "/" ? placed.absolute() : request.target + placed.absolute();
  item({entry.path, where, entry.type, entry.size, fate});
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

void RestoreState::apply(const Entry& entry, const TargetObject& object) {
  FileAttributes attributes;
  try {
    attributes = attributes_of(entry, point.reader());
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    result.damaged = result.damaged || !is_of_the_system(error);
    problem(entry.path, "restore the attributes of", error.what());
    Entry bare = entry;
    bare.attribute_chunk.reset();
    attributes = attributes_of(bare, point.reader());
  }
  if (!trusts()) hold_back(attributes);
  if (request.owner) {
    attributes.owner = request.owner->user;
    attributes.group = request.owner->group;
    attributes.owner_name.clear();
    attributes.group_name.clear();
    attributes.give_owner = true;
  }
  AttributeResult applied = apply_attributes(object, attributes, owners_);
  // Who is not root could not have given it away in any case.
  bool held = !trusts() && !request.owner && geteuid() == 0;
  result.unproved_kept_back = result.unproved_kept_back || (held && applied.owner_kept_back);
  result.owners_kept_back = result.owners_kept_back || (!held && applied.owner_kept_back);
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
