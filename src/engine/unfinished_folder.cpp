#include "engine/unfinished_folder.hpp"

namespace kestrum {

UnfinishedFolder::UnfinishedFolder(Store& store, std::string job_folder, const std::string& name)
    : store_(store), job_folder_(std::move(job_folder)), path_(begin_set_folder(store, job_folder_, name)) {}

UnfinishedFolder::UnfinishedFolder(Store& store, std::string job_folder, const std::string& name,
                                   const SetFolder& left)
    : store_(store), job_folder_(std::move(job_folder)), path_(left.path) {
  const std::string wanted = in_folder(job_folder_, name + std::string(unfinished_mark));
  // Cosmetic, as the name of a finished set: what counts is its number.
  if (store.traits().renames && wanted != path_) {
    store.rename(path_, wanted);
    path_ = wanted;
  }
}

UnfinishedFolder::~UnfinishedFolder() {
  if (kept_) return;
  try {
    std::string name = path_.substr(path_.rfind('/') + 1);
    if (std::optional<SetFolder> folder = parse_set_folder(job_folder_, name))
      remove_set_folder(store_, *folder);
  } catch (const Error&) {
    // The drive may be gone. Without a seal it is no set; the next run clears it.
  }
}

std::optional<std::string> sealed_folder(const Store& store, const std::string& folder) {
  std::string plain = folder;
  if (plain.ends_with(unfinished_mark)) plain.resize(plain.size() - unfinished_mark.size());
  try {
    for (const std::string& path : {folder, plain}) {
      if (store.exists(path + "/" + seal_name)) return path;
    }
    return std::nullopt;
  } catch (const Error&) {
    return folder;
  }
}

}  // namespace kestrum
