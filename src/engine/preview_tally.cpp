#include "engine/preview_tally.hpp"

#include <algorithm>
#include <set>

namespace kestrum {

const char* verdict_word(Verdict verdict) {
  switch (verdict) {
    case Verdict::added:
      return "new";
    case Verdict::changed:
      return "changed";
    case Verdict::attributes:
      return "attributes";
    case Verdict::held:
      return "held";
    case Verdict::gone:
      return "gone";
    case Verdict::left_out:
      return "left out";
  }
  return "";
}

FileCount& VerdictCounts::of(Verdict verdict) {
  switch (verdict) {
    case Verdict::changed:
      return changed;
    case Verdict::attributes:
      return attributes;
    case Verdict::held:
      return held;
    default:
      return added;
  }
}

PreviewTally::PreviewTally(const Selection& selection)
    : selection_(selection), categories_(selection.categories.size()), decided_(selection.skip.size()) {
  for (const TreePath& source : selection.sources) sources_.push_back({source.absolute(), {}});
}

void PreviewTally::take(const Walked& found, const PreviewItem& item) {
  if (found.choice.reason == Reason::taken_back) ++decided_[static_cast<std::size_t>(found.choice.rule)];
  if (found.above_source) return;
  EntryType type = type_of(found.status);
  if (type == EntryType::folder) {
    ++folders_;
    return;
  }
  if (type != EntryType::file && !found.device) {
    ++others_;
    return;
  }
  all_.of(item.verdict).add(item.size);
  categories_.at(found.choice.category).of(item.verdict).add(item.size);
  // The walk comes to the sources in their order.
  while (source_ < selection_.sources.size() && !found.path.is_within(selection_.sources[source_])) ++source_;
  if (source_ < sources_.size()) {
    sources_[source_].counts.of(item.verdict).add(item.size);
    const TreePath& source = selection_.sources[source_];
    const std::string& joined = found.path.joined();
    std::size_t below = source.is_root() || found.path == source ? 0 : source.joined().size() + 1;
    std::size_t end = found.path == source ? std::string::npos : joined.find('/', below);
    std::string top = end == std::string::npos ? source.absolute() : "/" + joined.substr(0, end);
    top_folders_[top].of(item.verdict).add(item.size);
  }
  if (largest_.size() == most_largest && item.size <= largest_.begin()->first) return;
  largest_.emplace(item.size, item);
  if (largest_.size() > most_largest) largest_.erase(largest_.begin());
}

void PreviewTally::leave_out(const LeftOut& left, const PreviewItem& item) {
  if (left.choice.reason == Reason::rule) ++decided_[static_cast<std::size_t>(left.choice.rule)];
  LeftOutBy& by = left_out_[item.why];
  by.why = item.why;
  ++by.things;
  by.bytes += left.size;
}

std::vector<NamedCounts> PreviewTally::by_category() const {
  std::vector<NamedCounts> out;
  for (std::size_t i = 1; i < categories_.size(); ++i)
    out.push_back({selection_.categories[i], categories_[i]});
  if (!out.empty() && categories_[0].all().files > 0)
    out.push_back({selection_.categories[0], categories_[0]});
  return out;
}

std::vector<NamedCounts> PreviewTally::by_top_folder() const {
  std::vector<NamedCounts> out;
  for (const auto& [name, counts] : top_folders_) out.push_back({name, counts});
  std::stable_sort(out.begin(), out.end(), [](const NamedCounts& a, const NamedCounts& b) {
    return a.counts.all().bytes > b.counts.all().bytes;
  });
  return out;
}

std::vector<PreviewItem> PreviewTally::largest() const {
  std::vector<PreviewItem> out;
  for (auto item = largest_.rbegin(); item != largest_.rend(); ++item) out.push_back(item->second);
  return out;
}

std::vector<LeftOutBy> PreviewTally::left_out() const {
  std::vector<LeftOutBy> out;
  for (const auto& [why, by] : left_out_) out.push_back(by);
  std::stable_sort(out.begin(), out.end(),
                   [](const LeftOutBy& a, const LeftOutBy& b) { return a.things > b.things; });
  return out;
}

std::vector<std::string> PreviewTally::idle_patterns() const {
  // One pattern of a person may be several rules, one for each home.
  std::set<std::string> busy;
  std::vector<std::string> out;
  for (std::size_t i = 0; i < decided_.size(); ++i) {
    if (decided_[i] > 0) busy.insert(selection_.skip.source(static_cast<int>(i)).shown());
  }
  for (std::size_t i = 0; i < decided_.size(); ++i) {
    const SkipRules::Source& source = selection_.skip.source(static_cast<int>(i));
    if (source.origin == SkipRules::Origin::job && busy.insert(source.shown()).second)
      out.push_back(source.shown());
  }
  return out;
}

}  // namespace kestrum
