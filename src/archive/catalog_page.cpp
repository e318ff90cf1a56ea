#include "archive/catalog_page.hpp"

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

}  // namespace kestrum
