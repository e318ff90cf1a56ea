// One point as a file system asks for it: folders by their names, files from anywhere in them.
#pragma once

#include <list>
#include <memory>

#include "archive/file_view.hpp"
#include "engine/look.hpp"

namespace kestrum {

// What a listing shows of a thing.
struct ShownItem {
  std::string name;
  EntryType type = EntryType::file;
  std::uint32_t mode = 0;  // twelve permission bits
  std::uint32_t owner = 0, group = 0;
  Instant modified;
  std::uint64_t size = 0;  // bytes; of a link, of its target
};

// A folder with what is directly in it.
struct ShownFolder {
  ShownItem self;
  std::vector<ShownItem> items;  // by name
  // Parts of the list of files that do not read: what is in them is missing here.
  struct Gap {
    CatalogReader::Gap range;
    std::string reason;
  };
  std::vector<Gap> gaps;
};

// One thread. Holds few folders, and reads no more of a file than is asked for. Throws Error: damage, or what
// the system says. When the sets are changed meanwhile (a fold, a pruning), the point is opened anew.
// A name that is missing because a part of the list does not read is never said not to be there: it throws.
class PointTree {
 public:
  // The session must outlive this.
  PointTree(LookSession& session, Sequence point);
  const SetFacts& facts() { return point_.facts(); }

  // Nothing where there is no such folder, or thing.
  std::shared_ptr<const ShownFolder> folder(const TreePath& path);
  std::optional<ShownItem> item(const TreePath& path);
  std::optional<Entry> entry(const TreePath& path);  // all of it

  // A file that was opened.
  class File {
   public:
    File(std::shared_ptr<PointTree> tree, Entry entry) : tree_(std::move(tree)), entry_(std::move(entry)) {}
    // Bytes read: fewer than asked for at the end only.
    std::size_t read(std::uint64_t offset, std::span<std::uint8_t> out);

   private:
    std::shared_ptr<PointTree> tree_;
    Entry entry_;
    std::unique_ptr<FileView> view_;
    unsigned generation_ = 0;  // of the tree that `view_` is of
  };

 private:
  template <typename Use>
  auto with_current(Use&& use);
  // `gap` as in CatalogReader.
  std::shared_ptr<ShownFolder> list(const TreePath& path, const CatalogReader::OnGap& gap);
  std::shared_ptr<ShownFolder> list_what_reads(const TreePath& path);

  OpenPoint point_;
  unsigned generation_ = 1;
  struct Kept {
    TreePath path;
    std::shared_ptr<const ShownFolder> folder;
  };
  std::list<Kept> kept_;  // used last comes first
  std::size_t kept_items_ = 0;
};

}  // namespace kestrum
