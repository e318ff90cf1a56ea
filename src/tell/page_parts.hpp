// What pages for people have in common: one HTML file that needs nothing else, no script and no other file,
// and prints well.
#pragma once

#include <string>
#include <vector>

namespace kestrum {

// Up to its first words within the header, the title as a heading.
std::string page_start(const std::string& title);
// What follows the last words of the footer.
std::string page_end();

// The text is never taken for markup; `attributes` is.
std::string tag(const char* name, const std::string& text, const std::string& attributes = {});
// A state in words with a border.
std::string badge(const std::string& text, bool bad);

// Cells of a row; which of them are numbers and which are left out on a narrow screen says the head.
struct PageColumn {
  const char* heading;
  bool number = false, wide = false, words = false;
  std::string attributes(const char* scope = nullptr) const;
};
std::string table(const std::string& caption, const std::vector<PageColumn>& columns,
                  const std::vector<std::vector<std::string>>& rows);

}  // namespace kestrum
