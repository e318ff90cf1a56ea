#include <fmt/format.h>

#include <algorithm>

#include "archive/parity_head.hpp"
#include "archive/parity_layout.hpp"
#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {

using namespace parity;

namespace {

bool is_lost(const Error& error) {
  return error.kind() == ErrorKind::damage || error.system_code() == EIO;
}

// What can be read of it; zeros in place of the rest. False: nothing could.
bool read_what_reads(const StoreReader& file, std::uint64_t at, std::span<std::uint8_t> out) {
  std::fill(out.begin(), out.end(), std::uint8_t{0});
  const std::uint64_t size = file.size();
  if (at >= size) return false;
  out = out.first(std::min<std::uint64_t>(out.size(), size - at));
  try {
    file.read_at(at, out);
    return true;
  } catch (const Error& error) {
    if (!is_lost(error)) throw;
    std::fill(out.begin(), out.end(), std::uint8_t{0});
    return false;
  }
}

// What lies behind the end of a file of so many bytes is zeros, whatever has been put there.
void clear_behind(std::uint64_t bytes, std::uint64_t at, Bytes& part) {
  if (const std::uint64_t end = bytes - at; end < part.size())
    std::fill(part.begin() + static_cast<std::ptrdiff_t>(end), part.end(), std::uint8_t{0});
}

std::vector<std::uint64_t> checks_from(ByteView bytes) {
  std::vector<std::uint64_t> checks(bytes.size() / check_bytes);
  ByteReader in(bytes);
  for (std::uint64_t& check : checks) check = in.u64();
  return checks;
}

}  // namespace

void read_as_far_as_it_reads(const StoreReader* file, std::uint64_t at, std::span<std::uint8_t> out) {
  if (file == nullptr) return std::fill(out.begin(), out.end(), std::uint8_t{0});
  if (read_what_reads(*file, at, out)) return;
  for (std::size_t i = 0; i < out.size(); i += parity_slice)
    read_what_reads(*file, at + i, out.subspan(i, std::min<std::size_t>(parity_slice, out.size() - i)));
}

ParityReader::ParityReader(const Store& store, const std::string& path, const Id& job, const SealedFile& of,
                           const SealedParity& expected)
    : name_(store.describe(path)), reader_(store.open(path)), shape_(expected.shape), bytes_(of.size) {
  const ParityLayout layout(shape_, bytes_);
  if (!shape_.fits(bytes_) || expected.file.size != layout.end)
    throw damage("the seal does not fit " + name_);
  Bytes head(head_bytes);
  read_as_far_as_it_reads(reader_.get(), 0, head);
  FileHeader header{FileKind::mend, of.number, job, of.set, {}};
  bool good = false;
  try {
    const FileHeader found = FileHeader::decode(ByteView(head).first(FileHeader::size), name_);
    good =
        found.kind == header.kind && found.number == header.number && found.job == job && found.set == of.set;
  } catch (const Error&) {
    // Nothing that is needed stands only there.
  }
  const Bytes own = own_head_of(shape_, of);
  good = good && std::equal(own.begin(), own.end(), head.begin() + FileHeader::size);
  if (!good) findings_.push_back(name_ + ": its head does not say what it belongs to");
  for (const std::uint64_t at : {head_bytes, layout.again}) {
    Bytes list(check_bytes * (layout.data + layout.parity));
    read_as_far_as_it_reads(reader_.get(), at, list);
    (at == head_bytes ? checks_ : again_) = checks_from(list);
  }
  if (checks_ != again_) findings_.push_back(name_ + ": its two lists of checks differ");
}

std::optional<SealedParity> read_own_parity(const Store& store, const std::string& path,
                                            const SealedFile& of) {
  try {
    const std::unique_ptr<StoreReader> file = store.open(path);
    Bytes head(head_bytes), digest(digest_bytes);
    file->read_at(0, head);
    constexpr std::size_t at_shape = 4 + 4 + 8 + 4;  // behind magic, version, size and slice size
    ByteReader in(ByteView(head).subspan(FileHeader::size + at_shape));
    SealedParity parity{of, {}};
    parity.shape.k = in.u32();
    parity.shape.m = in.u32();
    parity.shape.groups = in.u32();
    const Bytes own = own_head_of(parity.shape, of);
    if (!std::equal(own.begin(), own.end(), head.begin() + FileHeader::size) || !parity.shape.fits(of.size) ||
        file->size() != parity.shape.file_bytes(of.size))
      return std::nullopt;
    file->read_at(file->size() - digest_bytes, digest);
    parity.file.size = file->size();
    std::copy(digest.begin(), digest.end(), parity.file.digest.begin());
    return parity;
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return std::nullopt;
  }
}

bool ParityReader::is_good(std::uint64_t slice, const std::uint8_t* content) const {
  const std::uint64_t check = check_of(content);
  return check == checks_[slice] || check == again_[slice];
}

std::vector<std::string> ParityReader::check(const std::function<void(std::uint64_t)>& progress) const {
  std::vector<std::string> findings = findings_;
  const ParityLayout layout(shape_, bytes_);
  if (reader_->size() != layout.end)
    findings.push_back(fmt::format("{} has {} bytes instead of {}", name_, reader_->size(), layout.end));
  DigestStream stream;
  Bytes part;
  for (std::uint64_t at = 0; at < layout.digest; at += part.size()) {
    part.resize(std::min<std::uint64_t>(read_bytes, layout.digest - at));
    read_as_far_as_it_reads(reader_.get(), at, part);
    stream.update(part);
    if (progress) progress(part.size());
  }
  Bytes end(digest_bytes);
  read_as_far_as_it_reads(reader_.get(), layout.digest, end);
  const Digest digest = stream.finish();
  if (findings.empty() && !std::equal(end.begin(), end.end(), digest.begin()))
    findings.push_back(name_ + " is not as it was written");
  return findings;
}

SliceDamage ParityReader::look(const StoreReader* file,
                               const std::function<void(std::uint64_t)>& progress) const {
  const ParityLayout layout(shape_, bytes_);
  SliceDamage damage;
  std::map<std::uint32_t, std::uint32_t> lost;  // of each group
  Bytes part;
  for (std::uint64_t slice = 0; slice < layout.data;) {
    const std::uint64_t count = std::min<std::uint64_t>(read_bytes / parity_slice, layout.data - slice);
    part.resize(count * parity_slice);
    read_as_far_as_it_reads(file, slice * parity_slice, part);
    clear_behind(bytes_, slice * parity_slice, part);
    for (std::uint64_t i = 0; i < count; ++i) {
      if (is_good(slice + i, &part[i * parity_slice])) continue;
      damage.slices.push_back(slice + i);
      ++lost[static_cast<std::uint32_t>((slice + i) % shape_.groups)];
    }
    slice += count;
    if (progress) progress(part.size());
  }
  for (const std::uint64_t slice : damage.slices) {
    const auto group = static_cast<std::uint32_t>(slice % shape_.groups);
    if (lost[group] > good_rows(group).size()) damage.beyond.push_back(slice);
  }
  return damage;
}

// The parity slices of a group that read as they were written.
std::vector<std::uint32_t> ParityReader::good_rows(std::uint32_t group) const {
  const ParityLayout layout(shape_, bytes_);
  std::vector<std::uint32_t> rows;
  Bytes slice(parity_slice);
  for (std::uint32_t row = 0; row < shape_.m; ++row) {
    const std::uint64_t at = std::uint64_t{group} * shape_.m + row;
    read_as_far_as_it_reads(reader_.get(), layout.slices + at * parity_slice, slice);
    if (is_good(layout.data + at, slice.data())) rows.push_back(row);
  }
  return rows;
}

// With as many good rows as there are slices lost, what the good slices make of these rows is taken off, and
// what is left solved for the lost ones: any square part of the coefficients has an inverse.
class ParityReader::Group {
 public:
  Group(const ParityReader& parity, std::uint32_t number) : parity_(parity), number_(number) {}

  void lose(std::uint64_t slice) { lost_.push_back(slice); }  // in order
  // False: there are not enough rows.
  bool begin() {
    rows_ = parity_.good_rows(number_);
    if (rows_.size() < lost_.size()) return false;
    rows_.resize(lost_.size());
    const ParityLayout layout(parity_.shape_, parity_.bytes_);
    for (const std::uint32_t row : rows_) {
      Bytes& sum = sums_.emplace_back(parity_slice);
      const std::uint64_t at = std::uint64_t{number_} * parity_.shape_.m + row;
      read_as_far_as_it_reads(parity_.reader_.get(), layout.slices + at * parity_slice, sum);
    }
    return true;
  }
  void take(std::uint64_t slice, const std::uint8_t* content) {
    if (std::binary_search(lost_.begin(), lost_.end(), slice)) return;
    worse_ = worse_ || !parity_.is_good(slice, content);
    for (std::size_t i = 0; i < rows_.size(); ++i)
      add(coefficient(parity_.shape_, rows_[i], column_of(slice)), content, sums_[i].data());
  }
  void solve(std::map<std::uint64_t, Bytes>& mended) const {
    if (worse_) return;  // than when it was looked at
    Bytes matrix, inverse(lost_.size() * lost_.size());
    for (const std::uint32_t row : rows_) {
      for (const std::uint64_t slice : lost_)
        matrix.push_back(coefficient(parity_.shape_, row, column_of(slice)));
    }
    if (gf_invert_matrix(matrix.data(), inverse.data(), static_cast<int>(lost_.size())) != 0) return;
    for (std::size_t i = 0; i < lost_.size(); ++i) {
      Bytes content(parity_slice);
      for (std::size_t row = 0; row < rows_.size(); ++row)
        add(inverse[i * lost_.size() + row], sums_[row].data(), content.data());
      if (!parity_.is_good(lost_[i], content.data())) continue;
      content.resize(std::min<std::uint64_t>(parity_slice, parity_.bytes_ - lost_[i] * parity_slice));
      mended[lost_[i]] = std::move(content);
    }
  }

 private:
  std::uint32_t column_of(std::uint64_t slice) const {
    return static_cast<std::uint32_t>(slice / parity_.shape_.groups);
  }
  static void add(std::uint8_t factor, const std::uint8_t* from, std::uint8_t* to) {
    std::uint8_t table[32];
    gf_vect_mul_init(factor, table);
    gf_vect_mad(static_cast<int>(parity_slice), 1, 0, table, const_cast<std::uint8_t*>(from), to);
  }
  const ParityReader& parity_;
  std::uint32_t number_;
  std::vector<std::uint64_t> lost_;
  std::vector<std::uint32_t> rows_;
  std::vector<Bytes> sums_;
  bool worse_ = false;
};

// Groups that follow each other, in one reading of the file.
void ParityReader::mend_row(const StoreReader* file, std::uint32_t first, std::vector<Group>& row,
                            std::map<std::uint64_t, Bytes>& mended) const {
  const ParityLayout layout(shape_, bytes_);
  std::vector<bool> able;
  for (Group& group : row) able.push_back(group.begin());
  Bytes part;
  for (std::uint64_t at = first; at < layout.data; at += shape_.groups) {
    part.resize(std::min<std::uint64_t>(row.size(), layout.data - at) * parity_slice);
    read_as_far_as_it_reads(file, at * parity_slice, part);
    clear_behind(bytes_, at * parity_slice, part);
    for (std::size_t i = 0; i < part.size() / parity_slice; ++i) {
      if (able[i]) row[i].take(at + i, &part[i * parity_slice]);
    }
  }
  for (std::size_t i = 0; i < row.size(); ++i) {
    if (able[i]) row[i].solve(mended);
  }
}

std::map<std::uint64_t, Bytes> ParityReader::mend(const StoreReader* file, const SliceDamage& damage) const {
  std::map<std::uint32_t, Group> groups;
  for (const std::uint64_t slice : damage.slices) {
    const auto number = static_cast<std::uint32_t>(slice % shape_.groups);
    groups.try_emplace(number, *this, number).first->second.lose(slice);
  }
  std::map<std::uint64_t, Bytes> mended;
  std::vector<Group> row;
  std::uint32_t first = 0;
  for (auto& [number, group] : groups) {
    if (!row.empty() && (number != first + row.size() || row.size() == read_bytes / parity_slice)) {
      mend_row(file, first, row, mended);
      row.clear();
    }
    if (row.empty()) first = number;
    row.push_back(std::move(group));
  }
  if (!row.empty()) mend_row(file, first, row, mended);
  return mended;
}

}  // namespace kestrum
