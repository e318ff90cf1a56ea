#include "engine/restore_target.hpp"

#include "base/text.hpp"

namespace kestrum {

RestoreTarget::RestoreTarget(const std::string& path, bool comes_back) : folder_(path), names_(comes_back) {
  names_.enter(TreePath(), folder_.folder(TreePath(), false), false);
}

TreePath RestoreTarget::real(const TreePath& place) const {
  if (renamed_.empty()) return place;
  for (TreePath up = place; !up.is_root(); up = up.parent()) {
    auto renamed = renamed_.find(up);
    if (renamed == renamed_.end()) continue;
    TreePath out = renamed->second;
    for (const std::string& name : place.below(up).components()) out = out.child(name);
    return out;
  }
  return place;
}

RestoreTarget::Made RestoreTarget::make_folder(const TreePath& place) {
  Made made;
  made.real = real(place);
  if (made.real.is_root()) return made;
  TreePath parent = made.real.parent();
  std::string name(made.real.name());
  open(parent);
  try {
    folder_.folder(made.real, true, &made.created);
  } catch (const NameRefused&) {
    made.real = parent.child(substitute_name(name));
    folder_.folder(made.real, true, &made.created);
    renamed_.insert_or_assign(place, made.real);
    made.trouble = "the file system there cannot hold its name; it is in " + folder_.describe(made.real);
  }
  // Found although it was not there: taken for another name of ours, or created under another name.
  bool odd = !made.created && !names_.held(parent, std::string(made.real.name()));
  bool trimmed = name.ends_with('.') || name.ends_with(' ');
  if (made.trouble.empty() && (odd || trimmed) && !lists_name(folder_.folder(parent, false), name)) {
    made.trouble = made.created
                       ? "the file system there cuts the end of its name off"
                       : "the file system there takes its name for that of another folder: both are together";
  }
  names_.enter(made.real, folder_.folder(made.real, false), made.created);
  return made;
}

int RestoreTarget::open(const TreePath& real) {
  bool created = false;
  int fd = folder_.folder(real, true, &created);
  names_.enter(real, fd, created);
  return fd;
}

}  // namespace kestrum
