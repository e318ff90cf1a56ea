#include "support/recipe.hpp"

namespace kestrum::test {

std::string replaced(std::string text, const std::string& from, const std::string& to) {
  for (std::size_t at = text.find(from); at != std::string::npos; at = text.find(from, at + to.size()))
    text.replace(at, from.size(), to);
  return text;
}

std::string recipe(const std::string& guide, const std::string& name) {
  const std::string head = "```toml\n# " + name + "\n";
  const std::size_t at = guide.find(head);
  if (at == std::string::npos) return {};
  return guide.substr(at + 8, guide.find("```\n", at + 8) - at - 8);
}

}  // namespace kestrum::test
