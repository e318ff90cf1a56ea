// What each stage of a run costs per byte, on one core, on the content of one file: bench_stages FILE LEVEL.
// JSON.
#include <fmt/format.h>

#include <chrono>
#include <fstream>
#include <functional>
#include <iterator>

#include "archive/cutter.hpp"
#include "archive/frame.hpp"

using namespace kestrum;

namespace {

double nanoseconds_per_byte(std::size_t bytes, const std::function<void()>& work) {
  double best = 1e9;
  for (int i = 0; i < 3; ++i) {
    auto begin = std::chrono::steady_clock::now();
    work();
    std::chrono::duration<double, std::nano> spent = std::chrono::steady_clock::now() - begin;
    best = std::min(best, spent.count() / static_cast<double>(bytes));
  }
  return best;
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 3) return 2;
  std::ifstream file(argv[1], std::ios::binary);
  Bytes content((std::istreambuf_iterator<char>(file)), std::istreambuf_iterator<char>());
  content.resize(std::min<std::size_t>(content.size(), 256u << 20));
  if (content.size() < (1u << 20)) return 2;
  int level = std::atoi(argv[2]);
  SecretKey key = SecretKey::random();
  Cutter cutter(key);
  Naming naming(key);
  Compressor compressor;
  FileHeader header{FileKind::volume, 1, random_id(), random_id(), {}};
  FrameCipher cipher(key, header);
  auto frames = [&](auto&& each) {
    for (ByteView rest = content; !rest.empty();) {
      std::size_t size = std::min<std::size_t>(rest.size(), 4u << 20);
      each(rest.first(size));
      rest = rest.subspan(size);
    }
  };
  std::size_t sink = 0;
  double cut = nanoseconds_per_byte(content.size(), [&] {
    for (ByteView rest = content; !rest.empty();) {
      std::size_t length = cutter.cut(rest);
      sink += length;
      rest = rest.subspan(length);
    }
  });
  double hash = nanoseconds_per_byte(
      content.size(), [&] { frames([&](ByteView part) { sink += naming.name(part).bytes[0]; }); });
  std::size_t packed = 0;
  double compress = nanoseconds_per_byte(content.size(), [&] {
    packed = 0;
    frames([&](ByteView part) {
      Bytes out;
      compressor.compress(part, level, out);
      packed += out.size();
    });
  });
  PackedFrame frame;
  Bytes encrypted;
  double encrypt = nanoseconds_per_byte(content.size(), [&] {
    std::uint32_t ordinal = 0;
    frames([&](ByteView part) {
      frame.box.assign(part.begin(), part.end());
      cipher.encrypt(frame, ordinal++, encrypted);
      sink += encrypted.size();
    });
  });
  fmt::print(
      "{{\"bytes\": {}, \"cut\": {:.3f}, \"hash\": {:.3f}, \"compress\": {:.3f}, \"encrypt\": {:.3f}, "
      "\"ratio\": {:.3f}}}\n",
      content.size(), cut, hash, compress, encrypt,
      static_cast<double>(packed) / static_cast<double>(content.size()));
  return sink == 42 ? 1 : 0;
}
