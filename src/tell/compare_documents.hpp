// What differs, as JSON.
#pragma once

#include <string>

#include "engine/file_compare.hpp"

namespace kestrum {

// `b`: nullptr for the disk. `more`: changes that are not listed.
std::string tree_comparison_document(const SetFacts& a, const SetFacts* b, const TreePath& path,
                                     const TreeComparison& result, const std::vector<TreeChange>& changes,
                                     std::uint64_t more);
std::string file_comparison_document(const SetFacts& a, const SetFacts* b, const TreePath& path,
                                     const FileComparison& result);

}  // namespace kestrum
