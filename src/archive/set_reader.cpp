#include "archive/set_reader.hpp"

#include "base/text.hpp"

namespace kestrum {

SetReader::SetReader(const Store& store, std::shared_ptr<const FoundSet> set, const SecretKey& master)
    : store_(store), found_(std::move(set)), seal_(&*found_->seal), master_(master) {
  if (!seal_is_authentic(*seal_, master) && found_->twin) seal_ = &*found_->twin;
  if (!seal_is_authentic(*seal_, master))
    throw damage("the seal in " + store.describe(folder().path) + " was not written with this key");
}

const Root& SetReader::root() {
  if (!root_) root_ = unbox_root(*seal_, master_);
  return *root_;
}

const SecretKey& SetReader::naming_key() {
  if (!naming_key_) naming_key_ = unbox_naming(seal_->core.naming, master_, facts().chain);
  return *naming_key_;
}

const SealedFile* SetReader::sealed_file(std::uint32_t slot) const {
  for (const SealedFile& file : seal_->core.files) {
    if (file.slot == slot) return &file;
  }
  return nullptr;
}

FrameFileReader& SetReader::file(std::uint32_t slot) {
  auto open = files_.find(slot);
  if (open != files_.end()) return *open->second;
  const SealedFile* sealed = sealed_file(slot);
  if (sealed == nullptr)
    throw damage("the index of " + printable(folder().name) + " names a file that the set does not have");
  auto reader = std::make_unique<FrameFileReader>(store_, locate_file(store_, *found_, *sealed), master_,
                                                  seal_->core.job, *sealed);
  return *files_.emplace(slot, std::move(reader)).first->second;
}

const std::vector<FencePost>& SetReader::fence() {
  if (fence_) return *fence_;
  FrameContent frame = file(0).read(seal_->fence.value_or(root().fence));
  if (frame.kind != FrameKind::fence)
    throw damage("the fence table of " + printable(folder().name) + " is not where it should be");
  ByteReader in(frame.content);
  std::uint32_t count = in.u32();
  if (std::uint64_t{count} * 44 != in.remaining())
    throw damage("the fence table of " + printable(folder().name) + " has a wrong size");
  std::vector<FencePost> posts(count);
  for (FencePost& post : posts) {
    post.first = read_name(in);
    post.frame.offset = in.u64();
    post.frame.size = in.u32();
  }
  fence_ = std::move(posts);
  return *fence_;
}

const Bytes& SetReader::index_page(const FencePost& post) {
  auto cached = page_at_.find(post.frame.offset);
  if (cached != page_at_.end()) {
    pages_.splice(pages_.begin(), pages_, cached->second);
    return pages_.front().second;
  }
  FrameContent frame = file(0).read(post.frame);
  bool good = frame.kind == FrameKind::index_page && !frame.content.empty() &&
              frame.content.size() % IndexRecord::size == 0 && frame.content.size() <= limits::page;
  if (!good) throw damage("a page of the index of " + printable(folder().name) + " is malformed");
  pages_.emplace_front(post.frame.offset, std::move(frame.content));
  page_at_[post.frame.offset] = pages_.begin();
  while (pages_.size() > page_limit_) {
    page_at_.erase(pages_.back().first);
    pages_.pop_back();
  }
  return pages_.front().second;
}

std::optional<IndexRecord> SetReader::find(const ChunkName& name) {
  const FencePost* post = find_post(fence(), name);
  if (post == nullptr) return std::nullopt;
  return find_record(index_page(*post), name);
}

std::size_t SetReader::about_records() {
  if (fence().empty()) return 0;
  return fence().size() * (index_page(fence().front()).size() / IndexRecord::size);
}

void SetReader::each_record(const std::function<void(const IndexRecord&)>& next) {
  for (const FencePost& post : fence()) {
    Bytes page = index_page(post);  // a copy: `next` may look things up and so push the page out
    ByteReader rows(page);
    while (!rows.at_end()) next(read_record(rows));
  }
}

std::vector<std::string> SetReader::check_sizes() {
  std::vector<std::string> findings;
  for (const SealedFile& sealed : seal_->core.files) {
    try {
      file(sealed.slot);
    } catch (const Error& error) {
      if (is_of_the_system(error)) throw;
      findings.emplace_back(error.what());
      lost_.slots.insert(sealed.slot);
    }
  }
  return findings;
}

}  // namespace kestrum
