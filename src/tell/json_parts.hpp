// What the documents share. For the files that make them only: the JSON library is heavy.
#pragma once

#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "archive/catalog_entry.hpp"
#include "base/observer.hpp"
#include "base/set_facts.hpp"
#include "job/key_file.hpp"
#include "ledger/check_book.hpp"
#include "ledger/ledger.hpp"
#include "plan/keep_plan.hpp"

namespace kestrum {

using Json = nlohmann::ordered_json;

Json document(const char* what);
std::string text_of(const Json& json);
// Names are bytes: a name that is not UTF-8 is shown with U+FFFD and given exactly in a second member.
void put_path(Json& json, const std::string& key, const std::string& path);
// null where nobody has said anything of the point.
Json standing_json(const Standing& standing);
Json problems_json(const std::vector<Problem>& problems);

// As a file of keys says it: null where the usual holds.
Json value_json(const FileKey& key, const GivenValues& given);
// The same of all keys, by table.
Json values_json(const FileKeys& keys, const GivenValues& given);

const char* fate_name(Fate fate);                       // "stays", "goes", "folds"
Json instant_json(const std::optional<Instant>& when);  // null where there is none
Json run_json(const RunEntry& run);
Json check_json(const JobCheck& check);
Json totals_json(const SetTotals& totals);
Json facts_json(const SetFacts& facts);
Json entry_json(const Entry& entry);
Json findings_json(const std::vector<std::string>& findings);

}  // namespace kestrum
