// Parity of a volume or an index: what makes good of it what the drive has lost. docs/FORMAT.md section 10.
#pragma once

#include <functional>
#include <map>
#include <optional>

#include "archive/frame_file.hpp"

namespace kestrum {

inline constexpr std::uint64_t parity_slice = 4096;  // bytes
std::uint64_t parity_slices(std::uint64_t bytes);

// How a file is cut into groups: each of k slices, of which any m that are lost can be made again.
struct ParityShape {
  std::uint32_t k = 0, m = 0;  // each at least 1, together at most 255
  std::uint32_t groups = 0;
  bool operator==(const ParityShape&) const = default;
  bool fits(std::uint64_t bytes) const;
  // Of the file that holds the parity of one with so many bytes.
  std::uint64_t file_bytes(std::uint64_t bytes) const;
};
// For a file of so many bytes (more than 0), so that its parity takes that share of it: 1 to 50 percent.
ParityShape parity_shape(std::uint64_t bytes, unsigned percent);

inline constexpr std::string_view parity_ending = ".kmend";
std::string parity_file_name(std::uint32_t slot);  // "mend-001.kmend"

// What a seal says of a parity file.
struct SealedParity {
  SealedFile file;  // its slot is that of the file that it belongs to
  ParityShape shape;
};

// Sums it up from the file's bytes. Keeps as much in memory as the parity will take.
class ParityMaker {
 public:
  explicit ParityMaker(const ParityShape& shape);
  ~ParityMaker();
  ParityMaker(ParityMaker&&) noexcept;
  ParityMaker& operator=(ParityMaker&&) noexcept;
  // The file's bytes, in order; more than fit the shape are refused at the end.
  void add(ByteView bytes);
  bool fits() const;
  // Of the file that `of` tells of, of which everything was added: written under that path, flushed. Of a
  // file that is smaller than was planned only as many rows as make up the share. Ends this.
  SealedParity finish(Store& store, const std::string& path, const Id& job, const SealedFile& of);

 private:
  class Sums;
  std::unique_ptr<Sums> sums_;
};

// The same of a file that is there already, by reading it.
SealedParity make_parity(Store& store, const std::string& folder, const Id& job, const SealedFile& of,
                         unsigned percent, const std::function<void(std::uint64_t bytes)>& progress = {},
                         const std::string& name = {});  // empty: parity_file_name

// What a parity file says of itself, where its head reads and it belongs to that file; it has no name yet.
std::optional<SealedParity> read_own_parity(const Store& store, const std::string& path,
                                            const SealedFile& of);

// Made while the file is written: planned for its largest size, and begun once an eighth of that is there;
// what ends before is read for it in the end.
class GrowingParity {
 public:
  // The store must outlive this. The file lies at `path`, or will.
  GrowingParity(Store& store, std::string path, std::uint64_t largest, unsigned percent);
  // The file's bytes, in order, as soon as they can be read back.
  void add(ByteView bytes);
  // Once the file is finished. Ends this.
  SealedParity finish(const Id& job, const SealedFile& of);

 private:
  Store& store_;
  std::string path_;
  std::uint64_t largest_, begin_at_, bytes_ = 0;
  unsigned percent_;
  std::optional<ParityMaker> maker_;
};

// Bytes of a file, slice by slice where larger pieces do not read; zeros in place of what does not, and of
// what lies behind its end. nullptr: zeros. Throws what is not the fault of the drive's places.
void read_as_far_as_it_reads(const StoreReader* file, std::uint64_t at, std::span<std::uint8_t> out);

// Where a file is not as it was.
struct SliceDamage {
  std::vector<std::uint64_t> slices;  // in order; what could not be read among them
  std::vector<std::uint64_t> beyond;  // of them: what the parity does not bring back
};

// A parity file opened for mending, as far as it reads itself.
class ParityReader {
 public:
  // `of`: the file that it belongs to. Throws damage where nothing of use can be read.
  ParityReader(const Store& store, const std::string& path, const Id& job, const SealedFile& of,
               const SealedParity& expected);
  const ParityShape& shape() const { return shape_; }
  // Parts of it that do not read as they were written, in plain words; empty: it is whole.
  std::vector<std::string> check(const std::function<void(std::uint64_t bytes)>& progress = {}) const;
  // Compares the file, which may be shorter than it was, or missing (nullptr), with the checks of its slices.
  SliceDamage look(const StoreReader* file, const std::function<void(std::uint64_t)>& progress = {}) const;
  // The damaged slices that can be made again, by their numbers; the last may be cut by the end of the file.
  std::map<std::uint64_t, Bytes> mend(const StoreReader* file, const SliceDamage& damage) const;

 private:
  bool is_good(std::uint64_t slice, const std::uint8_t* content) const;
  std::vector<std::uint32_t> good_rows(std::uint32_t group) const;
  class Group;
  void mend_row(const StoreReader* file, std::uint32_t first, std::vector<Group>& row,
                std::map<std::uint64_t, Bytes>& mended) const;
  std::string name_;
  std::unique_ptr<StoreReader> reader_;
  ParityShape shape_;
  std::uint64_t bytes_ = 0;                    // of the file it belongs to
  std::vector<std::uint64_t> checks_, again_;  // of the slices, then of the parity's; as they stand twice
  std::vector<std::string> findings_;
};

}  // namespace kestrum
