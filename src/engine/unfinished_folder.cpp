#include "engine/unfinished_folder.hpp"

namespace kestrum {

UnfinishedFolder::UnfinishedFolder(Store& store, std::string job_folder, const std::string& name)
    : store_(store),
      job_folder_(std::move(job_folder)),
      path_(job_folder_ + "/" + name + std::string(unfinished_mark)) {
  store_.make_folder(path_);
  store_.flush_folder(job_folder_);
}

UnfinishedFolder::~UnfinishedFolder() {
  if (done_) return;
  try {
    std::string name = path_.substr(path_.rfind('/') + 1);
    if (std::optional<SetFolder> folder = parse_set_folder(job_folder_, name))
      remove_set_folder(store_, *folder);
  } catch (const Error&) {
    // The drive may be gone. Without a seal it is no set; the next run clears it.
  }
}

bool is_sealed(const Store& store, const std::string& folder) {
  try {
    return store.exists(folder + "/" + seal_name);
  } catch (const Error&) {
    return true;
  }
}

}  // namespace kestrum
