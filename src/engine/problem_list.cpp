#include "engine/problem_list.hpp"

namespace kestrum {

void add_problem(std::vector<Problem>& problems, Observer& observer, Problem problem) {
  observer.problem(problem);
  if (problems.size() < most_problems) {
    problems.push_back(std::move(problem));
  } else if (problems.size() == most_problems) {
    problems.push_back({"", "list", "there were more problems than are kept; these are the first 100,000"});
  }
}

}  // namespace kestrum
