// The yardstick: every file read, one stream with each file's name, mode, times and size, zstd with as many
// threads, AES-256-CTR, one file, flushed. And its reverse, and a plain walk that looks at every file.
//   bench_pipeline pack TREE FILE LEVEL THREADS | unpack FILE TREE | check FILE | walk TREE
#include <fcntl.h>
#include <fts.h>
#include <openssl/evp.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zstd.h>

#include <algorithm>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <string>
#include <vector>

namespace {

namespace fs = std::filesystem;
using Buffer = std::vector<unsigned char>;
constexpr std::size_t block = 1u << 20;

[[noreturn]] void fail(const char* what) {
  std::perror(what);
  std::exit(1);
}

EVP_CIPHER_CTX* cipher() {
  static const unsigned char key[32] = {1};
  static const unsigned char counter[16] = {};
  EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
  EVP_EncryptInit_ex(context, EVP_aes_256_ctr(), nullptr, key, counter);
  return context;
}

// What stands before each file in the stream.
struct Head {
  std::uint64_t size;
  std::int64_t seconds;
  std::uint32_t nanoseconds;
  std::uint32_t mode;
  std::uint32_t name_size;
  std::uint32_t zero;
};

class Packer {
 public:
  Packer(const char* path, int level, int threads)
      : file_(open(path, O_WRONLY | O_CREAT | O_TRUNC, 0600)), cipher_(cipher()) {
    if (file_ < 0) fail(path);
    ZSTD_CCtx_setParameter(zstd_, ZSTD_c_compressionLevel, level);
    ZSTD_CCtx_setParameter(zstd_, ZSTD_c_nbWorkers, threads);
  }
  void put(const void* data, std::size_t size, ZSTD_EndDirective end = ZSTD_e_continue) {
    ZSTD_inBuffer in{data, size, 0};
    while (true) {
      ZSTD_outBuffer out{packed_.data(), packed_.size(), 0};
      std::size_t left = ZSTD_compressStream2(zstd_, &out, &in, end);
      if (ZSTD_isError(left) != 0) fail("zstd");
      int n = 0;
      EVP_EncryptUpdate(cipher_, secret_.data(), &n, packed_.data(), static_cast<int>(out.pos));
      for (std::size_t done = 0; done < out.pos;) {
        ssize_t written = write(file_, secret_.data() + done, out.pos - done);
        if (written < 0) fail("write");
        done += static_cast<std::size_t>(written);
      }
      if (end == ZSTD_e_continue ? in.pos == in.size : left == 0) return;
    }
  }
  void finish() {
    put(nullptr, 0, ZSTD_e_end);
    if (fsync(file_) != 0 || close(file_) != 0) fail("flush");
  }

 private:
  int file_;
  EVP_CIPHER_CTX* cipher_;
  ZSTD_CCtx* zstd_ = ZSTD_createCCtx();
  Buffer packed_ = Buffer(block), secret_ = Buffer(block + 64);
};

template <typename F>
void each(const fs::path& root, F&& file) {
  std::vector<fs::path> names;
  for (const fs::directory_entry& entry : fs::directory_iterator(root)) names.push_back(entry.path());
  std::sort(names.begin(), names.end());
  for (const fs::path& name : names) {
    struct stat status {};
    if (lstat(name.c_str(), &status) != 0) continue;
    file(name, status);
    if (S_ISDIR(status.st_mode)) each(name, file);
  }
}

void pack(const fs::path& root, const char* to, int level, int threads) {
  Packer packer(to, level, threads);
  Buffer buffer(block);
  each(root, [&](const fs::path& path, const struct stat& status) {
    std::string name = path.lexically_relative(root).string();
    bool regular = S_ISREG(status.st_mode);
    Head head{regular ? static_cast<std::uint64_t>(status.st_size) : 0,
              status.st_mtim.tv_sec,
              static_cast<std::uint32_t>(status.st_mtim.tv_nsec),
              status.st_mode,
              static_cast<std::uint32_t>(name.size()),
              0};
    int fd = regular ? open(path.c_str(), O_RDONLY) : -1;
    if (regular && fd < 0) return;
    packer.put(&head, sizeof head);
    packer.put(name.data(), name.size());
    std::uint64_t left = head.size;
    while (left > 0) {
      ssize_t n = read(fd, buffer.data(), std::min<std::uint64_t>(left, block));
      if (n <= 0) fail("read");
      packer.put(buffer.data(), static_cast<std::size_t>(n));
      left -= static_cast<std::uint64_t>(n);
    }
    if (fd >= 0) close(fd);
  });
  packer.finish();
}

class Unpacker {
 public:
  explicit Unpacker(const char* path) : file_(open(path, O_RDONLY)), cipher_(cipher()) {
    if (file_ < 0) fail(path);
  }
  // False at the end of the stream.
  bool get(void* data, std::size_t size) {
    ZSTD_outBuffer out{data, size, 0};
    while (out.pos < out.size) {
      if (in_.pos == in_.size) {
        ssize_t n = read(file_, secret_.data(), block);
        if (n < 0) fail("read");
        int m = 0;
        EVP_EncryptUpdate(cipher_, packed_.data(), &m, secret_.data(), static_cast<int>(n));
        in_ = {packed_.data(), static_cast<std::size_t>(n), 0};
      }
      bool dry = in_.size == 0;
      std::size_t before = out.pos;
      if (ZSTD_isError(ZSTD_decompressStream(zstd_, &out, &in_)) != 0) fail("zstd");
      if (dry && out.pos == before) return false;
    }
    return true;
  }

 private:
  int file_;
  EVP_CIPHER_CTX* cipher_;
  ZSTD_DCtx* zstd_ = ZSTD_createDCtx();
  Buffer secret_ = Buffer(block), packed_ = Buffer(block + 64);
  ZSTD_inBuffer in_{nullptr, 0, 0};
};

void unpack(const char* from, const fs::path& root) {
  fs::create_directories(root);
  Unpacker unpacker(from);
  Buffer buffer(block);
  Head head{};
  while (unpacker.get(&head, sizeof head)) {
    std::string name(head.name_size, '\0');
    unpacker.get(name.data(), name.size());
    std::string path = (root / name).string();
    if (S_ISDIR(head.mode)) {
      mkdir(path.c_str(), 0700);
      continue;
    }
    if (!S_ISREG(head.mode)) continue;
    int fd = open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL, 0600);
    if (fd < 0) fail(path.c_str());
    for (std::uint64_t left = head.size; left > 0;) {
      std::size_t part = static_cast<std::size_t>(std::min<std::uint64_t>(left, block));
      unpacker.get(buffer.data(), part);
      if (write(fd, buffer.data(), part) != static_cast<ssize_t>(part)) fail("write");
      left -= part;
    }
    fchmod(fd, head.mode & 07777);
    timespec times[2] = {{0, UTIME_NOW}, {head.seconds, static_cast<long>(head.nanoseconds)}};
    futimens(fd, times);
    close(fd);
  }
}

// Decrypted and decompressed, from the drive, and nothing made of it.
void check(const char* from) {
  const int file = open(from, O_RDONLY);
  if (file < 0 || posix_fadvise(file, 0, 0, POSIX_FADV_DONTNEED) != 0) fail(from);
  close(file);
  Unpacker unpacker(from);
  Buffer buffer(block);
  while (unpacker.get(buffer.data(), buffer.size())) {
  }
}

}  // namespace

int main(int argc, char** argv) {
  std::string what = argc > 2 ? argv[1] : "";
  if (what == "pack" && argc == 6) {
    pack(argv[2], argv[3], std::atoi(argv[4]), std::atoi(argv[5]));
  } else if (what == "unpack" && argc == 4) {
    unpack(argv[2], argv[3]);
  } else if (what == "check" && argc == 3) {
    check(argv[2]);
  } else if (what == "walk" && argc == 3) {
    // The C library's own walker, which looks at every file.
    std::uint64_t count = 0;
    char* roots[] = {argv[2], nullptr};
    FTS* tree = fts_open(roots, FTS_PHYSICAL, nullptr);
    while (FTSENT* entry = tree == nullptr ? nullptr : fts_read(tree))
      count += entry->fts_info != FTS_DP ? 1 : 0;
    fts_close(tree);
    std::printf("%llu\n", static_cast<unsigned long long>(count));
  } else {
    std::fprintf(stderr,
                 "bench_pipeline pack TREE FILE LEVEL THREADS | unpack FILE TREE | check FILE | walk TREE\n");
    return 2;
  }
  return 0;
}
