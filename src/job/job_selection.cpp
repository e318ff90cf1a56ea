#include "job/job_selection.hpp"

#include <algorithm>

#include "base/error.hpp"
#include "base/text.hpp"
#include "job/categories.hpp"
#include "job/usual_list.hpp"

namespace kestrum {
namespace {

std::vector<Account> chosen_people(const WhatToSave& what, const People& people) {
  if (what.people.empty()) return {people.me};
  std::vector<Account> chosen;
  for (const std::string& name : what.people) {
    if (name == "me") {
      chosen.push_back(people.me);
    } else if (name == "everybody") {
      chosen.insert(chosen.end(), people.everybody.begin(), people.everybody.end());
    } else {
      auto found = std::find_if(people.everybody.begin(), people.everybody.end(),
                                [&](const Account& account) { return account.name == name; });
      if (found == people.everybody.end()) {
        std::vector<std::string> names;
        for (const Account& account : people.everybody) names.push_back(account.name);
        std::optional<std::string> near = nearest(name, names);
        throw Error(ErrorKind::usage,
                    "nobody called '" + printable(name) + "' has an account and a home on this machine",
                    near ? "did you mean '" + *near + "'?" : "those who have: " + join(names, ", "));
      }
      chosen.push_back(*found);
    }
  }
  return chosen;
}

// "~/" at the start of a pattern stands for every chosen home.
void add_rule(std::vector<SkipRules::Source>& rules, const std::string& text,
              const std::vector<Account>& people) {
  std::string_view rest = text;
  std::string mark = rest.starts_with('!') ? "!" : "";
  rest.remove_prefix(mark.size());
  if (!rest.starts_with("~/")) {
    rules.push_back({text, SkipRules::Origin::job, {}});
    return;
  }
  for (const Account& person : people) {
    std::string plain;  // a home's path means itself, whatever characters it holds
    for (char c : person.home)
      plain += std::string("*?[\\").find(c) == std::string::npos ? std::string(1, c) : std::string("\\") + c;
    rules.push_back({mark + plain + std::string(rest.substr(1)), SkipRules::Origin::job, text});
  }
}

}  // namespace

Selection select(const WhatToSave& what, const People& people, Instant now,
                 const std::function<void(const std::string&)>& note) {
  Selection selection;
  std::vector<Account> chosen = chosen_people(what, people);
  std::vector<WantedPlace> places;
  for (const std::string& folder : what.folders) places.push_back({folder, true, 0});
  if (!what.categories.empty()) {
    if (chosen.empty())
      throw Error(ErrorKind::usage, "nobody has an account and a home on this machine",
                  "name folders in [what] folders instead of categories");
    std::vector<WantedPlace> more = category_places(selection, what.categories, chosen);
    places.insert(places.end(), more.begin(), more.end());
  }
  set_places(selection, places, note);

  std::vector<SkipRules::Source> rules;
  if (!what.hidden) rules.push_back({".*", SkipRules::Origin::hidden_names, {}});
  if (what.usual_list) {
    for (const UsualSkip& skip : usual_list())
      rules.push_back({skip.pattern, SkipRules::Origin::usual_list, {}});
  }
  for (const std::string& text : what.skip) add_rule(rules, text, chosen);
  selection.skip = SkipRules(rules);
  selection.limits.largest = what.skip_larger;
  selection.limits.smallest = what.skip_smaller;
  if (what.skip_older) selection.limits.oldest = before(now, *what.skip_older);
  if (what.skip_newer) selection.limits.newest = before(now, *what.skip_newer);
  selection.mounted_below = what.mounted_below;
  selection.tagged_caches = what.tagged_caches;
  return selection;
}

}  // namespace kestrum
