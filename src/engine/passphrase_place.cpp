#include "engine/passphrase_place.hpp"

#include <filesystem>

#include "base/destination_address.hpp"
#include "base/error.hpp"
#include "base/text.hpp"
#include "store/drive_facts.hpp"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

std::string real_path(const std::string& path) {
  std::error_code code;
  const fs::path real = fs::weakly_canonical(path, code);
  return code ? path : real.string();
}

}  // namespace

bool passphrase_at_destination(const Job& job) {
  constexpr std::string_view by_file = "file:";
  if (job.encryption == Encryption::none || !job.passphrase.starts_with(by_file)) return false;
  const std::string file = real_path(job.passphrase.substr(by_file.size()));
  for (const std::string& named : job.destinations) {
    try {
      const std::string root = real_path(locate_destination(DestinationAddress::parse(named)));
      if (file.starts_with(root.ends_with('/') ? root : root + "/")) return true;
    } catch (const Error&) {
      // It is not there; a path by which it could be reached is not known either.
    }
  }
  return false;
}

void refuse_passphrase_at_destination(const Job& job) {
  if (!passphrase_at_destination(job)) return;
  throw Error(ErrorKind::usage,
              "the passphrase file " + printable(job.passphrase.substr(std::string_view("file:").size())) +
                  " lies at the destination itself: whoever has the drive has the passphrase too",
              "put it elsewhere, on the machine's own disk, and name it: --protect-passphrase file:/path");
}

}  // namespace kestrum
