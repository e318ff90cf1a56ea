#include "archive/parity.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "archive/parity_layout.hpp"
#include "base/error.hpp"
#include "base/random.hpp"
#include "base/text.hpp"

namespace kestrum {

using namespace parity;

namespace {

// More rows protect no better against runs of damage, and cost time in proportion.
constexpr std::uint32_t most_rows = 6;

// For ec_encode_data_update.
Bytes tables_of(const ParityShape& shape) {
  Bytes rows(std::size_t{shape.k} * shape.m), tables(rows.size() * 32);
  for (std::uint32_t row = 0; row < shape.m; ++row) {
    for (std::uint32_t column = 0; column < shape.k; ++column)
      rows[std::size_t{row} * shape.k + column] = coefficient(shape, row, column);
  }
  ec_init_tables(static_cast<int>(shape.k), static_cast<int>(shape.m), rows.data(), tables.data());
  return tables;
}

}  // namespace

std::uint64_t parity_slices(std::uint64_t bytes) {
  return (bytes + parity_slice - 1) / parity_slice;
}

bool ParityShape::fits(std::uint64_t bytes) const {
  return k > 0 && m > 0 && k + m <= most_slices && parity_slices(bytes) <= std::uint64_t{k} * groups;
}

std::uint64_t ParityShape::file_bytes(std::uint64_t bytes) const {
  return ParityLayout(*this, bytes).end;
}

ParityShape parity_shape(std::uint64_t bytes, unsigned percent) {
  ParityShape shape;
  shape.m = std::clamp(most_slices * percent / (100 + percent), 1u, most_rows);
  shape.k = std::min(100 * shape.m / percent, most_slices - shape.m);
  const std::uint64_t slices = std::max<std::uint64_t>(parity_slices(bytes), 1);
  shape.groups = static_cast<std::uint32_t>((slices + shape.k - 1) / shape.k);
  // A small file: as many slices as there are, and no more parity than that share, rounded up.
  if (shape.groups == 1) {
    shape.k = static_cast<std::uint32_t>(slices);
    shape.m = std::max(1u, (shape.k * percent + 99) / 100);
  }
  return shape;
}

std::string parity_file_name(std::uint32_t slot) {
  return fmt::format("mend-{:03}{}", slot, parity_ending);
}

// The library leaves the upper halves of the vector registers in use, which slows down all code that comes
// after and does not use them.
#if defined(__x86_64__)
__attribute__((target("avx"))) static void clear_upper_halves() {
  __builtin_ia32_vzeroupper();
}
static void settle_registers() {
  static const bool has_them = __builtin_cpu_supports("avx") != 0;
  if (has_them) clear_upper_halves();
}
#else
static void settle_registers() {}
#endif

// The sums, group by group; of a slice as soon as it is whole, while it is in the processor's cache.
class ParityMaker::Sums {
 public:
  explicit Sums(const ParityShape& given)
      : shape(given),
        sums(std::size_t{given.groups} * given.m * parity_slice),
        tables_(tables_of(given)),
        begun_(parity_slice) {}

  void add(ByteView data) {
    bytes += data.size();
    while (!data.empty()) {
      if (filled_ == 0 && data.size() >= parity_slice) {
        add_slice(data.data());
        data = data.subspan(parity_slice);
        continue;
      }
      const std::size_t part = std::min<std::size_t>(parity_slice - filled_, data.size());
      std::copy_n(data.begin(), part, begun_.begin() + static_cast<std::ptrdiff_t>(filled_));
      data = data.subspan(part);
      if ((filled_ += part) == parity_slice) add_begun();
    }
  }

  // What is missing of the last slice are zeros.
  void end() {
    if (filled_ == 0) return;
    std::fill(begun_.begin() + static_cast<std::ptrdiff_t>(filled_), begun_.end(), std::uint8_t{0});
    add_begun();
  }

  // The first rows of every group, so many that the share is as it was planned for a whole file.
  ParityShape keep_rows() {
    const std::uint64_t slices = std::max<std::uint64_t>(parity_slices(bytes), 1);
    const std::uint64_t planned = std::uint64_t{shape.k} * shape.groups;
    ParityShape kept = shape;
    kept.m = static_cast<std::uint32_t>((shape.m * slices + planned - 1) / planned);
    for (std::size_t group = 1; group < shape.groups && kept.m < shape.m; ++group)
      std::copy_n(&sums[group * shape.m * parity_slice], kept.m * parity_slice,
                  &sums[group * kept.m * parity_slice]);
    sums.resize(std::size_t{shape.groups} * kept.m * parity_slice);
    return kept;
  }

  const ParityShape shape;
  std::uint64_t bytes = 0;
  std::vector<std::uint64_t> checks;
  Bytes sums;

 private:
  void add_begun() {
    filled_ = 0;
    add_slice(begun_.data());
  }
  void add_slice(const std::uint8_t* slice) {
    const std::size_t number = checks.size(), column = number / shape.groups, group = number % shape.groups;
    checks.push_back(check_of(slice));
    if (column >= shape.k) return;  // more than fits, which is told in the end
    std::uint8_t* rows[most_slices];
    for (std::uint32_t row = 0; row < shape.m; ++row)
      rows[row] = &sums[(group * shape.m + row) * parity_slice];
    ec_encode_data_update(static_cast<int>(parity_slice), static_cast<int>(shape.k),
                          static_cast<int>(shape.m), static_cast<int>(column), tables_.data(),
                          const_cast<std::uint8_t*>(slice), rows);
    settle_registers();
  }

  Bytes tables_;
  Bytes begun_;  // the last slice, as far as it is there
  std::size_t filled_ = 0;
};

ParityMaker::ParityMaker(const ParityShape& shape) : sums_(std::make_unique<Sums>(shape)) {}
ParityMaker::~ParityMaker() = default;
ParityMaker::ParityMaker(ParityMaker&&) noexcept = default;
ParityMaker& ParityMaker::operator=(ParityMaker&&) noexcept = default;

void ParityMaker::add(ByteView bytes) {
  sums_->add(bytes);
}

bool ParityMaker::fits() const {
  return sums_->shape.fits(sums_->bytes);
}

SealedParity ParityMaker::finish(Store& store, const std::string& path, const Id& job, const SealedFile& of) {
  sums_->end();
  if (!fits() || sums_->bytes != of.size)
    throw Error(ErrorKind::failed, "the parity of " + path + " was not made of the whole file");
  const ParityShape shape = sums_->keep_rows();
  std::vector<std::uint64_t>& checks = sums_->checks;
  for (std::size_t at = 0; at < sums_->sums.size(); at += parity_slice)
    checks.push_back(check_of(&sums_->sums[at]));
  ByteWriter list;
  for (const std::uint64_t check : checks) list.u64(check);

  SealedParity sealed{of, shape};
  sealed.file.name = path.substr(path.rfind('/') + 1);
  sealed.file.size = 0;
  FileHeader header{FileKind::mend, of.number, job, of.set, {}};
  fill_random(header.salt);
  const std::unique_ptr<StoreWriter> file = store.create(path);
  DigestStream digest;
  const Bytes head = header.encode(), own = own_head_of(shape, of);
  for (const ByteView part :
       {ByteView(head), ByteView(own), list.view(), ByteView(sums_->sums), list.view()}) {
    file->append(part);
    digest.update(part);
    sealed.file.size += part.size();
  }
  sealed.file.digest = digest.finish();
  file->append(sealed.file.digest);
  sealed.file.size += digest_bytes;
  file->finish();
  sums_.reset();
  return sealed;
}

namespace {

// The first `bytes` of a file.
void add_from(const Store& store, const std::string& path, std::uint64_t bytes, ParityMaker& maker,
              const std::function<void(std::uint64_t)>& progress = {}) {
  const std::unique_ptr<StoreReader> file = store.open(path);
  Bytes part;
  for (std::uint64_t at = 0; at < bytes; at += part.size()) {
    part.resize(std::min<std::uint64_t>(read_bytes, bytes - at));
    file->read_at(at, part);
    maker.add(part);
    if (progress) progress(part.size());
  }
}

}  // namespace

GrowingParity::GrowingParity(Store& store, std::string path, std::uint64_t largest, unsigned percent)
    : store_(store),
      path_(std::move(path)),
      largest_(largest),
      begin_at_(store.traits().appends ? largest / 8 : 0),
      percent_(percent) {}

void GrowingParity::add(ByteView bytes) {
  bytes_ += bytes.size();
  if (maker_) return maker_->add(bytes);
  if (bytes_ < begin_at_) return;
  maker_.emplace(parity_shape(largest_, percent_));
  if (bytes_ == bytes.size()) return maker_->add(bytes);
  add_from(store_, path_, bytes_, *maker_);
}

SealedParity GrowingParity::finish(const Id& job, const SealedFile& of) {
  const std::string folder = folder_of(path_);
  // Too large by what one frame may be.
  if (!maker_ || !maker_->fits()) {
    maker_.reset();
    return make_parity(store_, folder, job, of, percent_);
  }
  return maker_->finish(store_, folder + "/" + parity_file_name(of.slot), job, of);
}

SealedParity make_parity(Store& store, const std::string& folder, const Id& job, const SealedFile& of,
                         unsigned percent, const std::function<void(std::uint64_t bytes)>& progress,
                         const std::string& name) {
  ParityMaker maker(parity_shape(of.size, percent));
  add_from(store, folder + "/" + of.name, of.size, maker, progress);
  return maker.finish(store, folder + "/" + (name.empty() ? parity_file_name(of.slot) : name), job, of);
}

}  // namespace kestrum
