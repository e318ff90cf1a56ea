// Where archive sets live: a small interface, so that a set can lie in a local folder, in memory (tests) or,
// later, across a network. Paths are relative to the store's root, components joined by '/', made by our own
// code only.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.hpp"

namespace kestrum {

// A file opened for reading. `read_at` may be called from several threads.
class StoreReader {
 public:
  virtual ~StoreReader() = default;
  virtual std::uint64_t size() const = 0;
  // Exactly `out.size()` bytes at `offset`; Error of kind damage when the file ends before, failed on a read
  // error.
  virtual void read_at(std::uint64_t offset, std::span<std::uint8_t> out) const = 0;
  // Forget what the system holds in memory, so that the next read comes from the drive. A hint.
  virtual void drop_cache() const {}
};

// A file being written, in order. Until `flush` or `finish` returns, nothing of what was appended may be
// relied on; destroyed without `finish`, the file stays as it is or never appears (leftovers are cleared by
// the next writer). An `append` that throws not_reachable has appended nothing; any other error leaves it
// open how much.
class StoreWriter {
 public:
  virtual ~StoreWriter() = default;
  virtual void append(ByteView data) = 0;
  // What was appended so far is on the drive. Does nothing where files only appear whole.
  virtual void flush() = 0;
  // Flushed to the drive and closed; errors of both reach the caller.
  virtual void finish() = 0;
};

struct StoreEntry {
  std::string name;
  bool folder = false;
  std::uint64_t size = 0;
};

struct StoreSpace {
  std::uint64_t total = 0;
  std::uint64_t free = 0;  // for this user
};

// What a store can do; who needs more takes another way.
struct StoreTraits {
  bool renames = true;          // files and folders, in one step
  bool flushes_folders = true;  // names last once their folder was flushed; else each operation sees to it
  bool reserves = true;         // `reserve` takes room
  bool appends = true;          // `reopen` works, and a file grows while it is written
  bool knows_space = true;      // `space` means something
  bool lists_at_once =
      true;  // a listing shows what was written and not what was removed; else it may be late
};

// Keeps other processes of this machine out as long as it lives.
class StoreHold {
 public:
  virtual ~StoreHold() = default;
  // Whether it surely keeps every other process of this kernel out, in whatever container.
  virtual bool keeps_out() const { return false; }
};

// Every call throws Error: full when there is no space, not_reachable when the same may work in a while,
// no_destination when it cannot be written at all, failed otherwise. Calls may come from several threads.
class Store {
 public:
  virtual ~Store() = default;
  virtual StoreTraits traits() const { return {}; }
  // For messages: where this is.
  virtual std::string describe(const std::string& path) const = 0;
  // Whether what was opened is still what its name leads to: false once a drive was unmounted or replaced.
  virtual bool still_there() const { return true; }

  virtual bool exists(const std::string& path) const = 0;
  // Sorted by name; empty when the folder is not there.
  virtual std::vector<StoreEntry> list(const std::string& folder) const = 0;
  // Nothing when it is not there.
  virtual std::unique_ptr<StoreReader> try_open(const std::string& path) const = 0;

  // The file must not exist.
  virtual std::unique_ptr<StoreWriter> create(const std::string& path) = 0;
  // One that was finished, to append to; its content must end where `create`'s writer left it.
  virtual std::unique_ptr<StoreWriter> reopen(const std::string& path) = 0;
  // A small file as a whole, in the place of one that is there: afterwards the old content or the new one is
  // there, whatever happens meanwhile, and on return the new one, on the drive. The folder must exist.
  // Here: under a temporary name (the ending replaced by .tmp), flushed, renamed, the folder flushed.
  virtual void put(const std::string& path, ByteView content);
  // Takes `size` bytes of the drive for a new file, so that they are there when they are needed.
  virtual void reserve(const std::string& path, std::uint64_t size) = 0;
  // A file that appears with its content; false when one is there already. Of several at the same moment one
  // succeeds.
  virtual bool create_exclusive(const std::string& path, ByteView content) = 0;

  // Cuts a file down to its first `size` bytes, which are on the drive afterwards; nobody has it open. Here:
  // by way of a copy, where anything is to be cut.
  virtual void shorten(const std::string& path, std::uint64_t size);

  // In the place of a file that is there.
  virtual void rename(const std::string& from, const std::string& to) = 0;
  // Fine when it is gone already.
  virtual void remove(const std::string& path) = 0;
  // In any order; what is gone already is fine.
  virtual void remove_all(const std::vector<std::string>& paths);
  // One level; the folder above must be there. True when it was not there before.
  virtual bool make_folder(const std::string& path) = 0;
  // Closed to other users of the machine, where the file system knows users. No error where it does not.
  virtual void make_private(const std::string& /*folder*/) {}
  virtual void remove_folder(const std::string& path) = 0;  // empty
  // Makes names in the folder durable. False where the file system does not offer it.
  virtual bool flush_folder(const std::string& path) = 0;
  virtual StoreSpace space() const = 0;
  // Lets what was removed come free, where that is put off. Best effort.
  virtual void settle() {}
  // Nothing when another process of this machine, or another holder in this one, has it. Where the system
  // offers no such thing, everybody gets one.
  virtual std::unique_ptr<StoreHold> hold(const std::string& folder);

  // damage when it is not there.
  std::unique_ptr<StoreReader> open(const std::string& path) const;
  // The whole of a small file; damage when it is not there, or larger than `limit` bytes.
  Bytes read_all(const std::string& path, std::uint64_t limit) const;
  // The same; nothing when it is not there.
  std::optional<Bytes> try_read_all(const std::string& path, std::uint64_t limit) const;
  // Whether a small file is exactly `content`; nothing when it is not there.
  std::optional<bool> holds(const std::string& path, ByteView content) const;
  // With all those above it, each made durable in the one above.
  void make_folders(const std::string& path);
};

// "" for a path of one component.
std::string folder_of(const std::string& path);

// Opens the folder `root` and works beneath it from then on, whatever happens to the path. No symbolic link
// and no other file system is gone into below it. Throws Error: no_destination when it is not there or no
// folder.
std::unique_ptr<Store> open_local_store(const std::string& root);

}  // namespace kestrum
