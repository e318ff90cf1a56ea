#include "engine/way_proof.hpp"

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/hex_array.hpp"

namespace kestrum {
namespace {

using Json = nlohmann::json;

constexpr const char* by_passphrase = "passphrase";
constexpr std::size_t largest = 1u << 20;  // bytes

bool same_way(const WayProof& proof, const Id& drive, const std::optional<RecoveryPublic>& recovery) {
  return proof.drive == drive && proof.recovery == recovery;
}

void save(const Home& home, const std::string& job, const std::vector<WayProof>& proofs) {
  Json list = Json::array();
  for (const WayProof& proof : proofs) {
    list.push_back({{"drive", to_hex(proof.drive)},
                    {"way", proof.recovery ? to_hex(*proof.recovery) : by_passphrase},
                    {"when", utc_text(proof.when)}});
  }
  const std::string file = home.way_file(job);
  home.make_folder_of(file);
  const std::string text = Json{{"version", 1}, {"proved", std::move(list)}}.dump() + "\n";
  replace_file(file, as_bytes(text), 0600);
}

}  // namespace

std::vector<WayProof> load_way_proofs(const Home& home, const std::string& job) {
  try {
    const Json json = Json::parse(as_text(read_small_file(home.way_file(job), largest)));
    std::vector<WayProof> proofs;
    for (const Json& one : json.at("proved")) {
      WayProof proof;
      proof.drive = array_from_hex<16>(one.at("drive").get<std::string>()).value();
      const std::string way = one.at("way").get<std::string>();
      if (way != by_passphrase) proof.recovery = array_from_hex<32>(way).value();
      proof.when = parse_utc(one.at("when").get<std::string>()).value();
      proofs.push_back(proof);
    }
    return proofs;
  } catch (const std::exception&) {
    return {};
  }
}

void keep_way_proof(const Home& home, const std::string& job, const WayProof& proof) {
  std::vector<WayProof> proofs = load_way_proofs(home, job);
  std::erase_if(proofs, [&](const WayProof& one) { return same_way(one, proof.drive, proof.recovery); });
  proofs.push_back(proof);
  save(home, job, proofs);
}

void forget_way_proofs(const Home& home, const std::string& job, const Id& drive,
                       const std::optional<RecoveryPublic>& recovery) {
  std::vector<WayProof> proofs = load_way_proofs(home, job);
  if (std::erase_if(proofs, [&](const WayProof& one) { return same_way(one, drive, recovery); }) > 0)
    save(home, job, proofs);
}

std::optional<Instant> last_way_proof(const std::vector<WayProof>& proofs, const Id& drive) {
  std::optional<Instant> last;
  for (const WayProof& proof : proofs) {
    if (proof.drive == drive && (!last || *last < proof.when)) last = proof.when;
  }
  return last;
}

}  // namespace kestrum
