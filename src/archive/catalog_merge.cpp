#include "archive/catalog_merge.hpp"

#include <algorithm>
#include <map>

namespace kestrum {

// A page that some sources are in: of level 0 at an entry, above at a link that is not opened yet.
struct CatalogMerge::Node {
  std::vector<Node*> parents;  // that wait at the link to it; none: it is a top page
  std::vector<std::size_t> sources;
  std::size_t family = 0;
  std::optional<PageScan> scan;  // level 0
  CatalogPage page;              // above
  std::size_t at = 0;
  PagesAhead ahead;
  std::size_t place = 0;  // in nodes_

  const std::string& joined() const { return scan ? scan->joined() : page.links[at].first.joined(); }
};

struct CatalogMerge::Later {
  bool operator()(const Node* a, const Node* b) const {
    return TreePath::order(a->joined(), b->joined()) > 0;
  }
};

namespace {

// Points that have pages in common expect the same ones.
class ExpectedOnce final : public ChunkSource {
 public:
  explicit ExpectedOnce(ChunkSource& source) : source_(source) {}
  Bytes fetch(const ChunkRef& ref) override { return source_.fetch(ref); }
  void expect(const ChunkRef& ref) override {
    if (expected_ != ref.name) source_.expect(ref);
    expected_ = ref.name;
  }

 private:
  ChunkSource& source_;
  std::optional<ChunkName> expected_;
};

}  // namespace

CatalogMerge::CatalogMerge(std::vector<Source> sources, Ways ways)
    : sources_(std::move(sources)), ways_(std::move(ways)) {
  if (ways_.from < ways_.within) ways_.from = ways_.within;
  for (const Source& source : sources_) {
    if (ways_.sieve) source.reader->sift(ways_.sieve);
  }
  std::map<std::pair<std::size_t, ChunkName>, std::vector<std::size_t>> tops;
  for (std::size_t i = 0; i < sources_.size(); ++i) {
    if (sources_[i].top.level > limits::levels) throw damage("the catalog has too many levels");
    tops[{sources_[i].family, sources_[i].top.page.name}].push_back(i);
  }
  for (auto& [top, members] : tops) {
    if (ways_.pass_shared && members.size() == sources_.size()) continue;
    const CatalogTop& one = sources_[members[0]].top;
    open(one.page, one.level, top.first, {}, std::move(members));
  }
}

CatalogMerge::~CatalogMerge() = default;

const std::string& CatalogMerge::joined() const {
  return front_[0]->joined();
}

// The same page may be read through any of the sources: what one point cannot read another one may.
Bytes CatalogMerge::fetch(const ChunkRef& ref, const std::vector<std::size_t>& sources) {
  constexpr std::size_t most_tries = 3;
  ++pages_read_;
  for (std::size_t i = 0;; ++i) {
    try {
      return sources_[sources[i]].reader->fetch(ref);
    } catch (const Error& error) {
      if (!does_not_read(error) || i + 1 == std::min(most_tries, sources.size())) throw;
    }
  }
}

bool CatalogMerge::is_sifted_out(const ChunkRef& ref, unsigned level, std::size_t source) {
  if (!ways_.sieve || level > 0) return false;
  try {
    if (sources_[source].reader->passes(ref)) return false;
    ++pages_read_;
    return true;
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return false;  // read by another way, or told
  }
}

std::unique_ptr<CatalogMerge::Node> CatalogMerge::load(const ChunkRef& ref, unsigned level,
                                                       const std::vector<std::size_t>& sources) {
  auto node = std::make_unique<Node>();
  Bytes bytes = fetch(ref, sources);
  if (level_of_page(bytes) != level) throw damage("a catalog page stands at the wrong level");
  if (level > 0) {
    node->page = decode_page(bytes);
  } else {
    node->scan.emplace(std::move(bytes));
  }
  return node;
}

// To the first position that counts; false when it has none.
bool CatalogMerge::place(Node& node) const {
  const std::string& from = ways_.from.joined();
  if (node.scan) {
    bool there = node.scan->next();
    while (there && TreePath::order(node.scan->joined(), from) < 0) there = node.scan->next();
    return there;
  }
  // What is wanted may stand in the last page that begins before it.
  const auto& links = node.page.links;
  const auto behind =
      std::upper_bound(links.begin(), links.end(), ways_.from,
                       [](const TreePath& path, const PageLink& link) { return path < link.first; });
  node.at = behind == links.begin() ? 0 : static_cast<std::size_t>(behind - links.begin()) - 1;
  return true;
}

void CatalogMerge::open(const ChunkRef& ref, unsigned level, std::size_t family, std::vector<Node*> parents,
                        std::vector<std::size_t> sources) {
  if (is_sifted_out(ref, level, sources[0])) {
    for (Node* parent : parents) advance(parent);
    return;
  }
  std::unique_ptr<Node> node;
  bool there = false;
  try {
    node = load(ref, level, sources);
    there = place(*node);
  } catch (const Error& error) {
    if (!does_not_read(error) || !ways_.gap) throw;
    tell_gap(parents, sources, error);
    for (Node* parent : parents) advance(parent);
    return;
  }
  node->parents = std::move(parents);
  node->sources = std::move(sources);
  node->family = family;
  node->place = nodes_.size();
  nodes_.push_back(std::move(node));
  Node* const added = nodes_.back().get();
  if (there) return wait(added);
  added->at = added->page.size();
  advance(added);
}

void CatalogMerge::tell_gap(const std::vector<Node*>& parents, const std::vector<std::size_t>& sources,
                            const Error& error) {
  if (parents.empty()) ways_.gap({sources, {}, {}, error.what()});
  for (const Node* parent : parents) {
    Gap gap{parent->sources, parent->page.links[parent->at].first, {}, error.what()};
    if (parent->at + 1 < parent->page.size()) gap.until = parent->page.links[parent->at + 1].first;
    ways_.gap(std::move(gap));
  }
}

void CatalogMerge::wait(Node* node) {
  waiting_.push_back(node);
  std::push_heap(waiting_.begin(), waiting_.end(), Later());
}

// Behind the entry or link that it is at; a page at its end is left, and those above go on.
void CatalogMerge::advance(Node* node) {
  bool there = false;
  try {
    there = node->scan ? node->scan->next() : node->at < node->page.size() && ++node->at < node->page.size();
  } catch (const Error& error) {
    if (!does_not_read(error) || !ways_.gap) throw;
    tell_gap(node->parents, node->sources, error);
  }
  if (there) return wait(node);
  const std::vector<Node*> parents = std::move(node->parents);
  const std::size_t place = node->place;
  std::swap(nodes_[place], nodes_.back());
  nodes_[place]->place = place;
  nodes_.pop_back();
  for (Node* parent : parents) advance(parent);
}

// Several may lead to the same page.
void CatalogMerge::open_links(std::vector<Node*> uppers) {
  std::map<std::pair<std::size_t, ChunkName>, std::vector<Node*>> links;
  for (Node* upper : uppers) links[{upper->family, upper->page.links[upper->at].page.name}].push_back(upper);
  for (auto& [link, parents] : links) {
    std::vector<std::size_t> sources;
    for (const Node* parent : parents)
      sources.insert(sources.end(), parent->sources.begin(), parent->sources.end());
    std::sort(sources.begin(), sources.end());
    if (ways_.pass_shared && sources.size() == sources_.size()) {
      for (Node* parent : parents) advance(parent);
      continue;
    }
    const ChunkRef ref = parents[0]->page.links[parents[0]->at].page;
    const unsigned level = parents[0]->page.level - 1;
    ExpectedOnce reader(*sources_[sources[0]].reader);
    for (Node* parent : parents) parent->ahead.opens(parent->page, parent->at, reader);
    open(ref, level, link.first, std::move(parents), std::move(sources));
  }
}

bool CatalogMerge::next() {
  const std::vector<Node*> left = std::move(front_);
  front_.clear();
  sides_.clear();
  for (Node* node : left) advance(node);
  while (!waiting_.empty()) {
    std::vector<Node*> uppers;
    const std::string& first = waiting_.front()->joined();
    if (!TreePath::is_within(first, ways_.within.joined()) && TreePath::order(first, ways_.from.joined()) > 0)
      return false;
    do {
      std::pop_heap(waiting_.begin(), waiting_.end(), Later());
      Node* const node = waiting_.back();
      waiting_.pop_back();
      (node->scan ? front_ : uppers).push_back(node);
    } while (!waiting_.empty() &&
             waiting_.front()->joined() == (uppers.empty() ? front_ : uppers).front()->joined());
    if (uppers.empty()) break;
    for (Node* node : std::exchange(front_, {})) wait(node);
    open_links(std::move(uppers));
  }
  if (front_.empty()) return false;
  if (any_ && TreePath::order(last_, joined()) >= 0) throw damage("the catalog is out of order");
  last_ = joined();
  any_ = true;
  for (const Node* node : front_) sides_.push_back({&*node->scan, &node->sources});
  return TreePath::is_within(last_, ways_.within.joined());
}

}  // namespace kestrum
