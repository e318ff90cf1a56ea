#include "base/head_look.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <string_view>

namespace kestrum {
namespace {

using namespace std::string_view_literals;

struct Beginning {
  std::size_t at;
  std::string_view bytes;
};

// Formats whose content is compressed, and others that people keep. What is none of them is judged by its
// bytes.
constexpr Beginning beginnings[] = {
    {0, "\xff\xd8\xff"sv},      // JPEG
    {0, "\x89PNG"sv},           // PNG
    {0, "GIF8"sv},              // GIF
    {0, "II*\0"sv},             // TIFF and raw pictures
    {0, "MM\0*"sv},             // the same
    {0, "%PDF"sv},              // PDF
    {0, "PK\x03\x04"sv},        // ZIP, office documents
    {0, "\x1f\x8b"sv},          // gzip
    {0, "\x28\xb5\x2f\xfd"sv},  // Zstandard
    {0,
     "\xfd"
     "7zXZ"sv},                 // xz
    {0, "BZh"sv},               // bzip2
    {0, "7z\xbc\xaf"sv},        // 7z
    {0, "\x04\x22\x4d\x18"sv},  // LZ4
    {0, "Rar!"sv},              // RAR
    {0, "RIFF"sv},              // WAVE, AVI, WebP
    {0, "fLaC"sv},              // FLAC
    {0, "OggS"sv},              // Ogg
    {0, "ID3"sv},               // MP3
    {0, "\xff\xfb"sv},          // MP3
    {0, "\xff\xf3"sv},          // MP3
    {4, "ftyp"sv},              // MP4, MOV, HEIC
    {0, "\x1a\x45\xdf\xa3"sv},  // Matroska
    {0, "\0\0\x01\xba"sv},      // MPEG
    {0, "SQLite format 3"sv},   // SQLite
    {0, "\xd0\xcf\x11\xe0"sv},  // old office documents
    {0,
     "\x7f"
     "ELF"sv},                    // programs
    {0, "MZ"sv},                  // programs
    {0, "-----BEGIN PGP"sv},      // what people encrypt themselves
    {0, "LUKS\xba\xbe"sv},        // the same
    {0, "age-encryption.org"sv},  // the same
    {0, "Salted__"sv},            // the same
    {0, "\x03\xd9\xa2\x9a"sv},    // password stores
    {257, "ustar"sv},             // tar
};

constexpr std::size_t values = 256;

// Bits a byte, by how often each value comes.
double entropy(ByteView bytes, const std::array<std::size_t, values>& counts) {
  double bits = 0;
  for (const std::size_t count : counts) {
    if (count == 0) continue;
    const double share = static_cast<double>(count) / static_cast<double>(bytes.size());
    bits -= share * std::log2(share);
  }
  return bits;
}

// Of so many random bytes, how many values are among them.
double expected_values(std::size_t bytes) {
  return values * (1 - std::pow(1 - 1.0 / values, static_cast<double>(bytes)));
}

}  // namespace

HeadLook look_at_head(ByteView first) {
  constexpr std::size_t least = 64, enough = 512;
  first = first.first(std::min(first.size(), head_size));
  const std::string_view text = as_text(first);
  for (const Beginning& one : beginnings) {
    if (first.size() > one.at && text.substr(one.at).starts_with(one.bytes)) return HeadLook::known;
  }
  if (first.size() < least) return HeadLook::nothing;
  std::array<std::size_t, values> counts{};
  for (const std::uint8_t byte : first) ++counts[byte];
  std::size_t control = 0;  // what no text holds
  for (std::size_t value = 0; value < ' '; ++value) {
    if (value != '\t' && value != '\n' && value != '\r' && value != '\f' && value != 0x1b)
      control += counts[value];
  }
  if (control == 0) return HeadLook::text;
  // Random bytes come to eight bits less what so few of them cannot show (Miller 1955); what is compressed
  // without a beginning of its own looks like that too, executable code and sound do not.
  constexpr double margin = 0.12, noisy_share = 0.88;
  const double unseen = (values - 1) / (2 * static_cast<double>(first.size()) * std::log(2.0));
  if (first.size() >= enough)
    return entropy(first, counts) >= 8 - unseen - margin ? HeadLook::noise : HeadLook::plain;
  const auto there = static_cast<double>(
      std::count_if(counts.begin(), counts.end(), [](std::size_t count) { return count > 0; }));
  return there >= noisy_share * expected_values(first.size()) ? HeadLook::noise : HeadLook::plain;
}

}  // namespace kestrum
