#include "engine/point_merge.hpp"

#include <map>

#include "base/text.hpp"

namespace kestrum {

PointRow::PointRow(std::vector<LookSession>& sessions, const Ways& ways) : sessions_(sessions) {
  for (std::size_t i = 0; i < sessions.size(); ++i) add_session(i, ways);
}

void PointRow::add_session(std::size_t number, const Ways& ways) {
  LookSession& session = sessions_[number];
  session.proved_sets();
  const SetList& sets = session.sets();
  chains_.push_back(std::make_unique<ChainReader>(session.store(), sets, session.keys()));
  ChainReader& chain = *chains_.back();
  // Points of one naming key are one family: their pages have the same names.
  std::map<Digest, std::vector<std::size_t>> families;
  for (const FoundSet& set : sets) {
    if (!set.sealed() || set.facts().standing.given_up()) continue;
    const SetFacts& facts = set.facts();
    if (ways.wanted && !ways.wanted(number, facts)) continue;
    std::string trouble;
    if (session.opens_otherwise(facts.chain)) {
      trouble = "it opens with the passphrase of before only";
    } else {
      try {
        SetReader& reader = chain.set(facts.sequence);
        const CatalogTop top = reader.root().catalog;
        families[digest(reader.naming_key().view())].push_back(points_.size());
        points_.push_back({number, facts});
        sources_.push_back({nullptr, top, 0});
        continue;
      } catch (const Error& error) {
        if (!does_not_read(error) || !ways.unread) throw;
        trouble = error.what();
      }
    }
    if (ways.unread)
      ways.unread("point " + std::to_string(facts.sequence) + " of " + session.drive_name() + ": " + trouble);
  }
  for (const auto& [key, members] : families) {
    std::vector<Sequence> sequences;
    for (const std::size_t member : members) sequences.push_back(points_[member].facts.sequence);
    readers_.push_back(std::make_unique<PointReader>(chain, sequences));
    for (const std::size_t member : members) {
      sources_[member].reader = readers_.back().get();
      sources_[member].family = readers_.size() - 1;
    }
  }
}

std::string PointRow::name(std::size_t point) const {
  return "point " + std::to_string(points_[point].facts.sequence) + " of " +
         sessions_[points_[point].session].drive_name();
}

}  // namespace kestrum
