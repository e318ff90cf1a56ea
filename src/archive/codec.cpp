#include "archive/codec.hpp"

#include <zstd.h>

#include "base/error.hpp"

namespace kestrum {

struct Compressor::Context {
  ZSTD_CCtx* zstd = ZSTD_createCCtx();
  Bytes scratch;
  ~Context() { ZSTD_freeCCtx(zstd); }
};

Compressor::Compressor() : context_(std::make_unique<Context>()) {
  if (context_->zstd == nullptr) throw Error(ErrorKind::failed, "not enough memory for compression");
}
Compressor::~Compressor() = default;

// Four samples of 16 KiB at the quickest level: together they must lose at least 3 %. Photographs and sound
// that is already compressed lose less than 1 %, text and tables more than half.
bool Compressor::worth_it(ByteView content) {
  constexpr std::size_t sample = 16u << 10;
  constexpr std::size_t samples = 4;
  if (content.size() < 4 * samples * sample) return true;
  std::size_t packed = 0;
  if (context_->scratch.size() < ZSTD_compressBound(sample))
    context_->scratch.resize(ZSTD_compressBound(sample));
  for (std::size_t i = 0; i < samples; ++i) {
    ByteView part = content.subspan((content.size() - sample) / (samples - 1) * i, sample);
    std::size_t n = ZSTD_compressCCtx(context_->zstd, context_->scratch.data(), context_->scratch.size(),
                                      part.data(), part.size(), 1);
    if (ZSTD_isError(n) != 0) return true;
    packed += n;
  }
  return packed * 100 < samples * sample * 97;
}

Codec Compressor::compress(ByteView content, int level, Bytes& out) {
  if (worth_it(content)) {
    Bytes& scratch = context_->scratch;
    std::size_t bound = ZSTD_compressBound(content.size());
    if (scratch.size() < bound) scratch.resize(bound);
    std::size_t n = ZSTD_compressCCtx(context_->zstd, scratch.data(), scratch.size(), content.data(),
                                      content.size(), level);
    if (ZSTD_isError(n) != 0)
      throw Error(ErrorKind::failed, std::string("compression failed: ") + ZSTD_getErrorName(n));
    if (n < content.size()) {
      out.insert(out.end(), scratch.begin(), scratch.begin() + static_cast<std::ptrdiff_t>(n));
      return Codec::zstd;
    }
  }
  out.insert(out.end(), content.begin(), content.end());
  return Codec::stored;
}

struct Decompressor::Context {
  ZSTD_DCtx* zstd = ZSTD_createDCtx();
  ~Context() { ZSTD_freeDCtx(zstd); }
};

Decompressor::Decompressor() : context_(std::make_unique<Context>()) {
  if (context_->zstd == nullptr) throw Error(ErrorKind::failed, "not enough memory for decompression");
  ZSTD_DCtx_setParameter(context_->zstd, ZSTD_d_windowLogMax, 23);
}
Decompressor::~Decompressor() = default;

Bytes Decompressor::decompress(Codec codec, ByteView packed, std::size_t size, Bytes memory) {
  Bytes content = std::move(memory);
  if (codec == Codec::stored) {
    if (packed.size() != size) throw damage("stored content has the wrong size");
    content.assign(packed.begin(), packed.end());
    return content;
  }
  if (codec != Codec::zstd) throw damage("an unknown compression was used");
  content.resize(size);
  std::size_t n = ZSTD_decompressDCtx(context_->zstd, content.data(), size, packed.data(), packed.size());
  if (ZSTD_isError(n) != 0 || n != size) throw damage("compressed content does not decompress");
  return content;
}

}  // namespace kestrum
