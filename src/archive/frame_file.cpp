#include "archive/frame_file.hpp"

#include <algorithm>

#include "archive/parity.hpp"
#include "base/error.hpp"

namespace kestrum {

FrameFileWriter::FrameFileWriter(Store& store, const std::string& path, const SecretKey& master,
                                 const FileHeader& header, std::function<void(ByteView)> passed)
    : file_(store.create(path)), passed_(std::move(passed)), header_(header), cipher_(master, header) {
  Bytes bytes = header.encode();
  put(bytes);
  digest_.update(bytes);
  size_ = bytes.size();
}

void FrameFileWriter::put(ByteView bytes) {
  file_->append(bytes);
  if (passed_) passed_(bytes);
}

FramePlace FrameFileWriter::append(const PackedFrame& frame) {
  const ByteView view = cipher_.encrypt(frame, ordinal_++, encrypted_);
  FramePlace place{size_, static_cast<std::uint32_t>(view.size())};
  put(view);
  digest_.update(view.first(FrameHead::size));
  digest_.update(view.last(Aead::tag_size));
  size_ += view.size();
  return place;
}

SealedFile FrameFileWriter::finish() {
  file_->finish();
  SealedFile sealed;
  sealed.set = header_.set;
  sealed.number = header_.number;
  sealed.size = size_;
  sealed.digest = digest_.finish();
  return sealed;
}

FrameFileReader::FrameFileReader(const Store& store, const std::string& path, const SecretKey& master,
                                 const Id& job, const SealedFile& expected)
    : path_(path) {
  file_ = store.open(path);
  size_ = file_->size();
  if (size_ != expected.size) {
    throw damage(store.describe(path) + " has " + std::to_string(size_) + " bytes instead of " +
                 std::to_string(expected.size));
  }
  header_bytes_.resize(FileHeader::size);
  file_->read_at(0, header_bytes_);
  FileHeader header = FileHeader::decode(header_bytes_, store.describe(path));
  FileKind kind = expected.slot == 0 ? FileKind::index : FileKind::volume;
  if (header.job != job) throw damage(store.describe(path) + " belongs to another job");
  if (header.set != expected.set || header.kind != kind)
    throw damage(store.describe(path) + " belongs to another set");
  if (header.number != expected.number) throw damage(store.describe(path) + " is another file of this set");
  cipher_.emplace(master, header);
}

ByteView FrameFileReader::raw(FramePlace place) const {
  if (place.offset < FileHeader::size || place.size > size_ || place.offset > size_ - place.size) {
    throw damage("a frame would lie outside of its file");
  }
  static thread_local Bytes bytes;
  if (bytes.size() < place.size) bytes.resize(place.size);
  const std::span<std::uint8_t> out = std::span(bytes).first(place.size);
  file_->read_at(place.offset, out);
  return out;
}

ByteView FrameFileReader::raw(FramePlace place, Marks& marks) const {
  if (place.size < FrameHead::size + Aead::tag_size) throw damage("a frame is smaller than it can be");
  const ByteView bytes = raw(place);
  std::copy_n(bytes.begin(), marks.head.size(), marks.head.begin());
  std::copy_n(bytes.end() - Aead::tag_size, marks.tag.size(), marks.tag.begin());
  return bytes;
}

FrameContent FrameFileReader::read(FramePlace place, Bytes memory) const {
  static thread_local Decompressor decompressor;
  return cipher_->decrypt(raw(place), decompressor, std::move(memory));
}

FrameContent FrameFileReader::read(FramePlace place, Bytes memory, Marks& marks) const {
  static thread_local Decompressor decompressor;
  return cipher_->decrypt(raw(place, marks), decompressor, std::move(memory));
}

PackedFrame FrameFileReader::read_packed(FramePlace place) const {
  return cipher_->unpack(raw(place));
}

PackedFrame FrameFileReader::read_packed(FramePlace place, Bytes memory, Marks& marks) const {
  return cipher_->unpack(raw(place, marks), std::move(memory));
}

void FrameFileReader::read_raw(std::uint64_t offset, std::span<std::uint8_t> out) const {
  read_as_far_as_it_reads(file_.get(), offset, out);
}

std::pair<FramePlace, Bytes> FrameFileReader::head_at(std::uint64_t offset) const {
  if (size_ - offset < FrameHead::size + Aead::tag_size) throw damage("the file ends within a frame");
  Bytes bytes(FrameHead::size);
  file_->read_at(offset, bytes);
  FramePlace place{offset, FrameHead::decode(bytes).frame_size()};
  if (place.size > size_ - offset) throw damage("the file ends within a frame");
  return {place, std::move(bytes)};
}

bool FrameFileReader::reads() const {
  try {
    file_->drop_cache();
    Bytes header(FileHeader::size);
    file_->read_at(0, header);
    return header == header_bytes_;
  } catch (const Error&) {
    return false;
  }
}

Bytes FrameFileReader::tag_of(FramePlace place) const {
  Bytes tag(Aead::tag_size);
  file_->read_at(place.offset + place.size - Aead::tag_size, tag);
  return tag;
}

Digest light_digest(FrameFileReader& file) {
  DigestStream stream;
  stream.update(file.header_bytes());
  file.each_head([&](FramePlace, const Bytes& head, const Bytes& tag) {
    stream.update(head);
    stream.update(tag);
  });
  return stream.finish();
}

}  // namespace kestrum
