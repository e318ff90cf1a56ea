// When a way into the sets on a drive was last proved to open them, by a person: docs/GUIDE.md, "Try your
// ways in". The home remembers it; that it forgets costs nothing but another try.
#pragma once

#include "archive/recovery_key.hpp"
#include "engine/home.hpp"

namespace kestrum {

struct WayProof {
  Id drive{};
  std::optional<RecoveryPublic> recovery;  // nothing: a passphrase
  Instant when;
};

// In no order; empty where none is known, or what is kept does not read.
std::vector<WayProof> load_way_proofs(const Home& home, const std::string& job);
// In the place of an earlier one of that way and drive.
void keep_way_proof(const Home& home, const std::string& job, const WayProof& proof);
// That way was changed or taken away: what was proved of it holds no more.
void forget_way_proofs(const Home& home, const std::string& job, const Id& drive,
                       const std::optional<RecoveryPublic>& recovery);

// The newest of any way on that drive.
std::optional<Instant> last_way_proof(const std::vector<WayProof>& proofs, const Id& drive);

}  // namespace kestrum
