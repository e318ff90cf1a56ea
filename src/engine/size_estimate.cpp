#include "engine/size_estimate.hpp"

#include <fcntl.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "archive/codec.hpp"
#include "base/file_handle.hpp"

namespace kestrum {
namespace {

// Measured on trees of small files (docs/evidence): what the index, the frame's list and the content list
// hold of each chunk, and the catalog of each file after compression.
constexpr std::uint64_t bytes_per_chunk = 106;
constexpr std::uint64_t bytes_per_file = 45;
// Seals, closing frame, head of the catalog.
constexpr std::uint64_t bytes_per_set = 6000;
// Read before a stretch, so that the cuts in it fall where a run makes them, and behind it, so that its last
// chunk is whole.
constexpr std::uint64_t run_up_bytes = Cutter::max_size, run_out_bytes = Cutter::max_size;

// Pairs of neighbouring spots: whole frames.
std::vector<SampleSpot> joined(const std::vector<SampleSpot>& spots) {
  std::vector<SampleSpot> frames;
  for (std::size_t i = 0; i < spots.size(); ++i) {
    if (i % 2 == 0) frames.emplace_back();
    frames.back().insert(frames.back().end(), spots[i].begin(), spots[i].end());
  }
  return frames;
}

// Reads spots and says what a run would store of them.
class SpotMeasure {
 public:
  // `whole`: everything is measured, spot by spot.
  SpotMeasure(int level, const Naming& naming, KnownChunks* known, bool whole)
      : level_(level), naming_(naming), known_(known), whole_(whole), cutter_(naming.key()) {}

  MeasuredSpot measure(const SampleSpot& spot) {
    content_.clear();
    wanted_ = 0;
    MeasuredSpot one;
    std::uint64_t unread = 0;
    for (const SamplePiece& piece : spot) {
      one.bytes += piece.length;
      // Only where content may be held does it matter where exactly a large file is cut.
      const bool window = !piece.whole_file && (known_ != nullptr || whole_);
      const std::uint64_t end = piece.offset + piece.length;
      const std::uint64_t begin = window ? cut_before(piece) : piece.offset;
      if (begin >= end) continue;
      if (!read(piece.path, begin, end - begin + (window ? run_out_bytes : 0))) {
        unread += piece.length;
      } else if (piece.whole_file || window) {
        next_cut_ = {piece.path,
                     begin + take_chunks(piece.offset - std::min(begin, piece.offset), end - begin)};
      } else {
        append(buffer_);
        wanted_ += static_cast<double>(piece.length);
      }
    }
    one.stored = unread + static_cast<std::uint64_t>(wanted_ * ratio());
    return one;
  }

 private:
  // Where to begin cutting for a stretch: where the stretch before it has ended, if that was the last one;
  // else so far before it that cuts most likely fall where a run makes them.
  std::uint64_t cut_before(const SamplePiece& piece) const {
    if (whole_ && piece.offset > 0 && next_cut_.first == piece.path) return next_cut_.second;
    return piece.offset - std::min(piece.offset, run_up_bytes);
  }

  bool read(const TreePath& where, std::uint64_t offset, std::uint64_t length) {
    constexpr int flags = O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC;
    std::string path = where.absolute();
    FileHandle file(open(path.c_str(), flags | O_NOATIME));
    if (!file) file = FileHandle(open(path.c_str(), flags));
    buffer_.resize(length);
    ssize_t got = file ? read_full(file.get(), buffer_.data(), length, static_cast<off_t>(offset)) : -1;
    if (got <= 0) return false;
    buffer_.resize(static_cast<std::size_t>(got));
    return true;
  }

  void append(ByteView bytes) {
    if (content_.size() < SetWriter::frame_bytes) content_.insert(content_.end(), bytes.begin(), bytes.end());
  }

  // The chunks that begin between `from` and `to` in the buffer. Summed over all stretches of a file that is
  // each of its chunks once; of a sample, it is their share. Returns where the first one behind them begins.
  std::uint64_t take_chunks(std::uint64_t from, std::uint64_t to) {
    const std::optional<std::uint64_t> step = from == 0 ? 0 : first_held(from, to);
    // Without one, all of it is new. Before one, chunks were cut elsewhere, and are most likely held too.
    std::uint64_t at = step.value_or(from);
    while (at < to && at < buffer_.size()) {
      const ByteView chunk = chunk_at(at);
      if (!is_held(chunk) && at >= from) {
        wanted_ += static_cast<double>(chunk.size());
        append(chunk);
      }
      at += chunk.size();
    }
    return at;
  }

  ByteView chunk_at(std::uint64_t at) const {
    const ByteView rest = ByteView(buffer_).subspan(at);
    return rest.first(cutter_.cut(rest));
  }

  // Where the first chunk that is held begins: there the cuts are where a run makes them. Cutting from one
  // place falls in step with a run after some chunks, but now and then not within the run-up; so it is begun
  // from many places.
  std::optional<std::uint64_t> first_held(std::uint64_t from, std::uint64_t to) {
    std::set<std::uint64_t> tried;
    std::optional<std::uint64_t> first;
    for (std::uint64_t begin = 0; begin < from; begin += Cutter::min_size) {
      std::uint64_t at = begin;
      while (at < std::min<std::uint64_t>(first.value_or(to), buffer_.size()) && tried.insert(at).second) {
        const ByteView chunk = chunk_at(at);
        if (known_ != nullptr && known_->find(naming_.name(chunk))) first = at;
        at += chunk.size();
      }
      if (first && *first < from) break;
    }
    return first;
  }

  bool is_held(ByteView chunk) {
    ChunkName name = naming_.name(chunk);
    return !seen_.insert(name).second || (known_ != nullptr && known_->find(name).has_value());
  }

  double ratio() {
    if (content_.empty()) return 0;
    packed_.clear();
    compressor_.compress(content_, level_, packed_);
    return static_cast<double>(packed_.size()) / static_cast<double>(content_.size());
  }

  int level_;
  const Naming& naming_;
  KnownChunks* known_;
  bool whole_;
  std::pair<TreePath, std::uint64_t> next_cut_;  // in the file looked at last
  Cutter cutter_;
  Compressor compressor_;
  std::set<ChunkName> seen_;
  Bytes buffer_, content_, packed_;
  double wanted_ = 0;  // bytes of the spot that are not held
};

}  // namespace

void SizeSampler::add_piece(const TreePath& path, std::uint64_t offset, std::uint64_t length, bool whole) {
  if (number_ % step_ == 0) open_.push_back({path, offset, length, whole});
  open_bytes_ += length;
  if (open_bytes_ >= spot_bytes) close_spot();
}

void SizeSampler::close_spot() {
  if (number_ % step_ == 0 && !open_.empty()) kept_.push_back(std::move(open_));
  open_.clear();
  open_bytes_ = 0;
  ++number_;
  if (kept_.size() <= 2 * spots) return;
  std::vector<SampleSpot> fewer;
  for (std::size_t i = 0; i < kept_.size(); i += 2) fewer.push_back(std::move(kept_[i]));
  kept_ = std::move(fewer);
  step_ *= 2;
}

void SizeSampler::offer(const TreePath& path, std::uint64_t size) {
  ++files_;
  bytes_ += size;
  chunks_ += size == 0 ? 0 : 1 + size / Cutter::average_size;
  if (size <= spot_bytes) {
    if (open_bytes_ + size > spot_bytes && open_bytes_ > spot_bytes / 2) close_spot();
    if (size > 0) add_piece(path, 0, size, true);
    return;
  }
  if (open_bytes_ > 0) close_spot();
  for (std::uint64_t offset = 0; offset < size; offset += spot_bytes) {
    std::uint64_t length = std::min(spot_bytes, size - offset);
    add_piece(path, offset, length, false);
    if (open_bytes_ > 0) close_spot();
    // Spots that would not be kept need not be gone through one by one.
    std::uint64_t pass = (step_ - number_ % step_) % step_;
    pass = std::min(pass, (size - offset - length) / spot_bytes);
    number_ += pass;
    offset += pass * spot_bytes;
  }
}

SizeEstimate SizeSampler::estimate(int level, const Naming& naming, KnownChunks* known, Observer& observer,
                                   RunControl& control) const {
  auto begun = std::chrono::steady_clock::now();
  std::vector<SampleSpot> sample = kept_;
  if (number_ % step_ == 0 && !open_.empty()) sample.push_back(open_);
  if (step_ == 1) sample = joined(sample);
  SpotMeasure measure(level, naming, known, step_ == 1);
  std::vector<MeasuredSpot> measured;
  for (const SampleSpot& spot : sample) {
    control.checkpoint();
    measured.push_back(measure.measure(spot));
    observer.advanced(measured.back().bytes, 0);
  }

  SizeEstimate result = projected(measured);
  result.spent = std::chrono::steady_clock::now() - begun;
  return result;
}

// From the sample to everything.
SizeEstimate SizeSampler::projected(const std::vector<MeasuredSpot>& measured) const {
  SizeEstimate result;
  result.content_bytes = bytes_;
  std::uint64_t stored = 0;
  for (const MeasuredSpot& one : measured) {
    result.sampled_bytes += one.bytes;
    stored += one.stored;
  }
  result.whole = result.sampled_bytes == bytes_;
  double share =
      result.sampled_bytes == 0 ? 0 : static_cast<double>(stored) / static_cast<double>(result.sampled_bytes);
  // The standard error of a ratio of sums over the spots.
  double squares = 0;
  for (const MeasuredSpot& one : measured) {
    double off = static_cast<double>(one.stored) - share * static_cast<double>(one.bytes);
    squares += off * off;
  }
  auto n = static_cast<double>(measured.size());
  double mean = n == 0 ? 1 : static_cast<double>(result.sampled_bytes) / n;
  double error = n < 2 || result.whole ? 0 : std::sqrt(squares / (n * (n - 1))) / mean;
  // What fills less than 3 in n of everything may well lie beside all n spots (a chance of one in twenty).
  const double margin = result.whole ? 0 : std::max(2 * error, n == 0 ? 1 : 3 / n);
  std::uint64_t around = bytes_per_set + files_ * bytes_per_file + chunks_ * bytes_per_chunk;
  auto total = [&](double part) {
    return around + static_cast<std::uint64_t>(std::max(0.0, part) * static_cast<double>(bytes_));
  };
  result.stored_bytes = total(share);
  result.least = total(share - margin);
  result.most = total(std::min(1.0, share + margin));
  return result;
}

}  // namespace kestrum
