#include "archive/set_writer.hpp"

#include <fmt/format.h>

#include "archive/closing_frame.hpp"
#include "archive/set_folder.hpp"
#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {

SetWriter::SetWriter(Store& store, const SetIdentity& identity, const SecretKey& master, const Naming& naming,
                     KnownChunks& known, const SetWriterOptions& options)
    : store_(store),
      identity_(identity),
      master_(master),
      naming_(naming),
      known_(known),
      options_(options),
      spool_(options.scratch_folder),
      to_compress_(options.workers),
      to_write_(options.workers + 2) {
  volume_number_ = options.volumes_before;
  try {
    for (unsigned i = 0; i < std::max(1u, options_.workers); ++i) workers_.start([this] { compress_jobs(); });
    writer_.start([this] { write_frames(); });
  } catch (...) {
    close_queues();
    throw;
  }
}

SetWriter::~SetWriter() {
  close_queues();
}

void SetWriter::close_queues() {
  to_compress_.close();
  workers_.join();
  to_write_.close();
  writer_.join();
}

void SetWriter::check_failure() {
  std::lock_guard lock(failure_mutex_);
  if (failure_) std::rethrow_exception(failure_);
}

ChunkRef SetWriter::put(FrameKind kind, ByteView content) {
  check_failure();
  if (content.size() > limits::chunk)
    throw Error(ErrorKind::failed, "a piece of the catalog is larger than it can be");
  ChunkRef ref{naming_.name(content), identity_.sequence, content.size()};
  if (holds(ref.name)) return ref;
  if (std::optional<Sequence> holder = known_.find(ref.name)) {
    ref.sequence = *holder;
    return ref;
  }
  own_.put(ref.name, 0);
  spool_.expect(ref.name);
  new_bytes_ += content.size();
  gather(kind, ref.name, content);
  return ref;
}

void SetWriter::copy(PackedFrame frame) {
  check_failure();
  for (const ListedChunk& chunk : frame.chunks) {
    own_.put(chunk.name, 0);
    spool_.expect(chunk.name);
  }
  std::promise<PackedFrame> ready;
  ready.set_value(std::move(frame));
  to_write_.push(ready.get_future());
}

void SetWriter::hold(const std::vector<IndexRecord>& records) {
  for (const IndexRecord& record : records) {
    own_.put(record.name, 0);
    spool_.expect(record.name);
  }
  spool_.place(records);
}

void SetWriter::take_over(std::vector<SealedFile> volumes, std::uint64_t content_bytes,
                          const std::function<void(std::uint64_t)>& progress) {
  for (const SealedFile& file : volumes) {
    volume_number_ = std::max(volume_number_, file.number);
    make_parity_of(file, progress);
  }
  files_ = std::move(volumes);
  new_bytes_ += content_bytes;
}

void SetWriter::journal(Bytes content) {
  check_failure();
  submit(content_);
  submit(catalog_);
  // Packed here: it is small, and would take the place of a large frame in the queue to the workers.
  static thread_local Compressor compressor;
  std::promise<PackedFrame> ready;
  ready.set_value(pack_frame({.kind = FrameKind::journal, .chunks = {}, .content = std::move(content)},
                             options_.level, compressor));
  to_write_.push(ready.get_future());
}

void SetWriter::gather(FrameKind kind, const ChunkName& name, ByteView content) {
  FrameContent& open = kind == FrameKind::content   ? content_
                       : kind == FrameKind::catalog ? catalog_
                                                    : record_;
  std::size_t limit = kind == FrameKind::content ? options_.frame_bytes : catalog_frame_bytes;
  if (!open.chunks.empty() && open.content.size() + content.size() > limit) submit(open);
  if (open.content.empty()) {
    if (kind == FrameKind::content) open.content = buffers_.take();
    open.content.clear();
    open.content.reserve(std::max(limit, content.size()));
  }
  open.chunks.push_back({name, static_cast<std::uint32_t>(content.size())});
  open.content.insert(open.content.end(), content.begin(), content.end());
  if (open.content.size() >= limit || open.chunks.size() >= limits::chunks_per_frame) submit(open);
}

void SetWriter::submit(FrameContent& gathered) {
  if (gathered.chunks.empty()) return;
  pack({.kind = gathered.kind,
        .chunks = std::exchange(gathered.chunks, {}),
        .content = std::exchange(gathered.content, {})});
}

void SetWriter::pack(FrameContent draft) {
  auto job = std::make_shared<Job>();
  job->draft = std::move(draft);
  // Both queues in the same order: the writer waits for each frame in turn, so frames lie in the order of the
  // walk.
  to_write_.push(job->packed.get_future());
  to_compress_.push(std::move(job));
}

void SetWriter::compress_jobs() {
  Compressor compressor;
  while (auto job = to_compress_.pop()) {
    try {
      FrameContent& draft = (*job)->draft;
      // Memory of content frames only: small pieces among it would have to grow, which costs more than all of
      // a journal.
      const bool large = draft.kind == FrameKind::content;
      PackedFrame packed = pack_frame(draft, options_.level, compressor, large ? buffers_.take() : Bytes());
      if (large) buffers_.give(std::move(draft.content));
      (*job)->packed.set_value(std::move(packed));
    } catch (...) {
      (*job)->packed.set_exception(std::current_exception());
    }
  }
}

void SetWriter::write_frames() {
  bool failed = false;
  while (auto next = to_write_.pop()) {
    try {
      if (failed) continue;
      PackedFrame frame = next->get();
      write_frame(frame);
      if (frame.kind == FrameKind::content) buffers_.give(std::move(frame.box));
    } catch (const std::future_error&) {
      failed = true;  // given up before it was compressed
    } catch (...) {
      failed = true;  // go on emptying the queue, so that nobody waits for room
      std::lock_guard lock(failure_mutex_);
      failure_ = std::current_exception();
    }
  }
}

void SetWriter::write_frame(const PackedFrame& frame) {
  std::uint64_t size = FrameHead::size + frame.box.size() + Aead::tag_size;
  if (volume_ && volume_->size() > FileHeader::size && volume_->size() + size > options_.volume_bytes)
    finish_volume();
  if (!volume_) {
    FileHeader header{FileKind::volume, ++volume_number_, identity_.job, identity_.set, {}};
    fill_random(header.salt);
    const std::string path = identity_.folder + "/" + volume_file_name(volume_number_);
    std::function<void(ByteView)> passed;
    if (options_.parity_percent > 0) {
      growing_parity_.emplace(store_, path, options_.volume_bytes, options_.parity_percent);
      passed = [this](ByteView bytes) { growing_parity_->add(bytes); };
    }
    volume_ = std::make_unique<FrameFileWriter>(store_, path, master_, header, passed);
  }
  FramePlace place = volume_->append(frame);
  std::vector<IndexRecord> records;
  records.reserve(frame.chunks.size());
  std::uint32_t offset = 0;
  for (const ListedChunk& chunk : frame.chunks) {
    records.push_back({chunk.name, volume_number_, place, offset, chunk.length});
    offset += chunk.length;
  }
  if (!records.empty()) spool_.place(records);
  if (frame.kind != FrameKind::content) return;
  written_content_ += offset;
  written_bytes_ += size;
}

void SetWriter::finish_volume() {
  SealedFile sealed = volume_->finish();
  volume_.reset();
  sealed.slot = sealed.number;
  sealed.name = volume_file_name(sealed.number);
  if (growing_parity_) parity_.push_back(growing_parity_->finish(identity_.job, sealed));
  growing_parity_.reset();
  files_.push_back(std::move(sealed));
}

void SetWriter::make_parity_of(const SealedFile& file, const std::function<void(std::uint64_t)>& progress) {
  if (options_.parity_percent == 0) return;
  parity_.push_back(
      make_parity(store_, identity_.folder, identity_.job, file, options_.parity_percent, progress));
}

SetWriter::Finished SetWriter::finish(Root root) {
  submit(content_);
  submit(catalog_);
  submit(record_);
  close_queues();
  check_failure();
  Finished finished;
  const WrittenIndex index =
      write_index(store_, identity_.folder + "/" + index_file_name, identity_.job, identity_.set, master_,
                  [this](const auto& next) { spool_.merge(next); });
  make_parity_of(index.file);
  root.fence = index.fence;
  finished.root = root;

  Compressor compressor;
  write_frame(pack_frame(closing_frame(identity_.set, root), 1, compressor));
  finish_volume();

  std::sort(parity_.begin(), parity_.end(),
            [](const SealedParity& a, const SealedParity& b) { return a.file.slot < b.file.slot; });
  finished.parity = std::move(parity_);
  for (const SealedParity& parity : finished.parity) finished.stored_bytes += parity.file.size;
  finished.files = std::move(files_);
  finished.files.insert(finished.files.begin(), index.file);
  for (const SealedFile& file : finished.files) finished.stored_bytes += file.size;
  return finished;
}

std::string seal_set(Store& store, const SetIdentity& identity, const Seal& seal, const SecretKey& master) {
  std::string text = encode_seal(seal, master);
  const std::string& folder = identity.folder;
  if (text.size() > limits::seal_file)
    throw Error(ErrorKind::failed,
                "the set has so many files that no program would read its seal (" + size_text(text.size()) +
                    ", at most " + size_text(limits::seal_file) + ")",
                "set [how] volume-size higher");
  flush_names(store, folder, "6: names of a set's files");
  store.remove(folder + "/" + reserve_name);
  store.put(folder + "/" + seal_name, as_bytes(text));
  // The set exists from here on; what follows is finished by the next writer if need be.
  store.put(folder + "/" + seal_copy_name, as_bytes(text));
  return finish_set_folder(store, folder);
}

}  // namespace kestrum
