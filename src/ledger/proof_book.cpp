#include "ledger/proof_book.hpp"

#include "base/text.hpp"

namespace kestrum {

void ProofBook::add(const Id& set, const std::vector<Proof>& proofs) {
  Transaction writing(database_, "BEGIN IMMEDIATE");
  Statement clear(
      database_.get(),
      "DELETE FROM proof WHERE set_id = ?1 AND slot = ?2 AND first >= ?3 AND last <= ?4 AND content <= ?5");
  Statement insert(
      database_.get(),
      "INSERT INTO proof (set_id, slot, first, last, content, at) VALUES (?1, ?2, ?3, ?4, ?5, ?6)");
  for (const Proof& proof : proofs) {
    for (Statement* statement : {&clear, &insert}) {
      statement->reset();
      statement->bind(1, to_hex(set)).bind(2, static_cast<std::int64_t>(proof.where.slot));
      statement->bind(3, static_cast<std::int64_t>(proof.where.from));
      statement->bind(4, static_cast<std::int64_t>(proof.where.to)).bind(5, proof.content ? 1 : 0);
      if (statement == &insert) statement->bind(6, utc_text(proof.when));
      statement->step();
    }
  }
  writing.commit();
}

void ProofBook::take_back(const Id& set, const Stretch& where) {
  Statement clear(database_.get(),
                  "DELETE FROM proof WHERE set_id = ?1 AND slot = ?2 AND first < ?4 AND last > ?3");
  clear.bind(1, to_hex(set)).bind(2, static_cast<std::int64_t>(where.slot));
  clear.bind(3, static_cast<std::int64_t>(where.from)).bind(4, static_cast<std::int64_t>(where.to)).step();
}

std::vector<std::vector<Proof>> ProofBook::proofs(const std::vector<Id>& sets) {
  Statement ask(database_.get(),
                "SELECT slot, first, last, content, at FROM proof WHERE set_id = ? ORDER BY slot, first");
  std::vector<std::vector<Proof>> all;
  all.reserve(sets.size());
  Transaction reading(database_, "BEGIN");
  for (const Id& set : sets) {
    std::vector<Proof>& proofs = all.emplace_back();
    ask.reset();
    ask.bind(1, to_hex(set));
    while (ask.step()) {
      const Stretch where{static_cast<std::uint32_t>(ask.integer(0)),
                          static_cast<std::uint64_t>(ask.integer(1)),
                          static_cast<std::uint64_t>(ask.integer(2))};
      proofs.push_back({where, parse_utc(ask.text(4)).value_or(Instant{}), ask.integer(3) != 0});
    }
  }
  reading.commit();
  return all;
}

std::optional<Instant> ProofBook::begun(const std::string& name) {
  Statement ask(database_.get(), "SELECT began FROM check_round WHERE name = ?");
  ask.bind(1, name);
  if (!ask.step()) return std::nullopt;
  return parse_utc(ask.text(0));
}

void ProofBook::begin(const std::string& name, Instant when) {
  Statement put(database_.get(), "INSERT OR REPLACE INTO check_round (name, began) VALUES (?, ?)");
  put.bind(1, name).bind(2, utc_text(when)).step();
}

void ProofBook::end(const std::string& name) {
  Statement clear(database_.get(), "DELETE FROM check_round WHERE name = ?");
  clear.bind(1, name).step();
}

}  // namespace kestrum
