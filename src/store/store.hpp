// Where archive sets live: a small interface, so that a set can lie in a local folder, in memory (tests) or,
// later, across a network. Paths are relative to the store's root, components joined by '/', made by our own
// code only.
#pragma once

#include <cstdint>
#include <memory>
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

// A new file being written, in order. Until `finish` returns, nothing of it may be relied on; destroyed
// without `finish`, the file stays as it is (leftovers are cleared by the next writer).
class StoreWriter {
 public:
  virtual ~StoreWriter() = default;
  virtual void append(ByteView data) = 0;
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

// Every call throws Error: full when there is no space, failed otherwise. "Not there" is told apart by
// `exists`.
class Store {
 public:
  virtual ~Store() = default;
  // For messages: where this is.
  virtual std::string describe(const std::string& path) const = 0;
  virtual bool exists(const std::string& path) const = 0;
  // Sorted by name; empty when the folder is not there.
  virtual std::vector<StoreEntry> list(const std::string& folder) const = 0;
  virtual std::unique_ptr<StoreReader> open(const std::string& path) const = 0;
  // The file must not exist.
  virtual std::unique_ptr<StoreWriter> create(const std::string& path) = 0;
  // Takes `size` bytes of the drive for the file, so that they are there when they are needed.
  virtual void reserve(const std::string& path, std::uint64_t size) = 0;
  // Creates an empty file holding `content`; false when it exists already. Atomic among writers.
  virtual bool create_exclusive(const std::string& path, ByteView content) = 0;
  virtual void rename(const std::string& from, const std::string& to) = 0;
  virtual void remove(const std::string& path) = 0;
  virtual void make_folder(const std::string& path) = 0;  // with those above it; fine when it exists
  // Closed to other users of the machine, where the file system knows users. No error where it does not.
  virtual void make_private(const std::string& /*folder*/) {}
  virtual void remove_folder(const std::string& path) = 0;  // empty
  // Makes names in the folder durable. False where the file system does not offer it.
  virtual bool flush_folder(const std::string& path) = 0;
  virtual StoreSpace space() const = 0;

  // The whole of a small file; damage when larger than `limit` bytes.
  Bytes read_all(const std::string& path, std::uint64_t limit) const;
  // Under a temporary name, flushed, renamed into place, the folder flushed.
  void write_whole(const std::string& path, ByteView content);
};

std::unique_ptr<Store> open_local_store(const std::string& root);

}  // namespace kestrum
