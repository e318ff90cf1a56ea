#include "archive/catalog_page.hpp"

#include <algorithm>

#include "base/error.hpp"

namespace kestrum {

CatalogPage decode_page(ByteView bytes) {
  ByteReader in(bytes);
  if (in.u8() != 1) throw damage("a catalog page has an unknown version");
  CatalogPage page;
  page.level = in.u8();
  if (page.level > limits::levels) throw damage("the catalog has too many levels");
  std::uint64_t count = in.varint();
  if (count > bytes.size() || (count == 0 && page.level > 0))
    throw damage("a catalog page has a wrong count");
  std::string previous;
  for (std::uint64_t i = 0; i < count; ++i) {
    if (page.level == 0) {
      page.entries.push_back(read_entry(in, previous));
    } else {
      PageLink link;
      link.first = read_path(in, previous);
      link.page = read_ref(in);
      link.entries = in.varint();
      link.bytes = in.varint();
      page.links.push_back(std::move(link));
    }
    if (i > 0 && !(page.path_at(i - 1) < page.path_at(i))) throw damage("the catalog is out of order");
    previous = page.path_at(i).joined();
  }
  in.expect_end();
  return page;
}

unsigned level_of_page(ByteView page) {
  ByteReader in(page);
  if (in.u8() != 1) throw damage("a catalog page has an unknown version");
  return in.u8();
}

bool has_path(ByteView page, const std::function<bool(const std::string& joined)>& fits) {
  try {
    if (level_of_page(page) != 0) return true;
    ByteReader in(page);
    in.raw(2);
    std::string joined;
    for (std::uint64_t left = in.varint(); left > 0; --left) {
      read_next_path(in, joined);
      pass_entry(in);
      if (fits(joined)) return true;
    }
    return in.remaining() != 0;
  } catch (const Error&) {
    return true;
  }
}

PageScan::PageScan(Bytes page) : page_(std::move(page)), in_(page_) {
  if (level_of_page(page_) != 0) throw damage("a catalog page stands at the wrong level");
  in_.raw(2);
  left_ = in_.varint();
  if (left_ > page_.size()) throw damage("a catalog page has a wrong count");
}

bool PageScan::next() {
  if (left_ == 0) {
    in_.expect_end();
    return false;
  }
  --left_;
  before_ = joined_;
  start_ = page_.size() - in_.remaining();
  read_next_path(in_, joined_);
  if (any_ && TreePath::order(before_, joined_) >= 0) throw damage("the catalog is out of order");
  any_ = true;
  head_ = pass_entry(in_);
  return true;
}

Entry PageScan::entry() const {
  ByteReader in(ByteView(page_).subspan(start_));
  return read_entry(in, before_);
}

void PagesAhead::opens(const CatalogPage& upper, std::size_t at, ChunkSource& source) {
  // A frame of the usual size holds six of them or seven, but neighbours of many points lie in many frames.
  constexpr std::size_t row = 2, ahead = 48;
  in_order_ = at == next_ ? in_order_ + 1 : 0;
  next_ = at + 1;
  if (in_order_ < row) return;
  for (std::size_t next = in_order_ == row ? at + 1 : at + ahead; next <= at + ahead; ++next) {
    if (next < upper.links.size()) source.expect(upper.links[next].page);
  }
}

}  // namespace kestrum
