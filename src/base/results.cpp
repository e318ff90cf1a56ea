#include "base/results.hpp"

#include <array>
#include <utility>

namespace kestrum {
namespace {

template <typename Value, std::size_t N>
using Words = std::array<std::pair<Value, std::string_view>, N>;

template <typename Value, std::size_t N>
std::string_view word_of(const Words<Value, N>& words, Value value) {
  for (const auto& [one, word] : words) {
    if (one == value) return word;
  }
  return {};
}

template <typename Value, std::size_t N>
std::optional<Value> value_of(const Words<Value, N>& words, std::string_view text) {
  for (const auto& [one, word] : words) {
    if (word == text) return one;
  }
  return std::nullopt;
}

constexpr Words<RunResult, 8> results{{{RunResult::running, "running"},
                                       {RunResult::done, "done"},
                                       {RunResult::done_with_problems, "done with problems"},
                                       {RunResult::failed, "failed"},
                                       {RunResult::stopped, "stopped"},
                                       {RunResult::missed, "missed"},
                                       {RunResult::skipped, "skipped"},
                                       {RunResult::suspect, "suspect"}}};
constexpr Words<Health, 5> healths{{{Health::unproved, "unproved"},
                                    {Health::proved, "proved"},
                                    {Health::suspect, "suspect"},
                                    {Health::damaged, "damaged"},
                                    {Health::incomplete, "incomplete"}}};
constexpr Words<ReadBack, 4> read_backs{{{ReadBack::none, "not read back"},
                                         {ReadBack::good, "read back, good"},
                                         {ReadBack::damaged, "read back, damaged"},
                                         {ReadBack::stopped, "not read back, stopped"}}};
constexpr Words<DueFate, 4> fates{{{DueFate::waiting, "waiting"},
                                   {DueFate::ran, "ran"},
                                   {DueFate::missed, "missed"},
                                   {DueFate::skipped, "skipped"}}};
constexpr Words<DueReason, 11> due_reasons{{{DueReason::none, "none"},
                                            {DueReason::not_watching, "not watching"},
                                            {DueReason::settling, "settling"},
                                            {DueReason::window, "window"},
                                            {DueReason::paused, "paused"},
                                            {DueReason::drive, "drive"},
                                            {DueReason::busy, "busy"},
                                            {DueReason::held_back, "held back"},
                                            {DueReason::cut_off, "cut off"},
                                            {DueReason::not_started, "not started"},
                                            {DueReason::withdrawn, "withdrawn"}}};
constexpr Words<Depth, 4> depths{
    {{Depth::quick, "quick"}, {Depth::sample, "sample"}, {Depth::all, "all"}, {Depth::source, "source"}}};

}  // namespace

std::string_view result_text(RunResult result) {
  return word_of(results, result);
}
std::optional<RunResult> parse_result(std::string_view text) {
  return value_of(results, text);
}
std::string_view fate_text(DueFate fate) {
  return word_of(fates, fate);
}
std::optional<DueFate> parse_fate(std::string_view text) {
  return value_of(fates, text);
}
std::string_view due_reason_name(DueReason reason) {
  return word_of(due_reasons, reason);
}
std::optional<DueReason> parse_due_reason(std::string_view text) {
  return value_of(due_reasons, text);
}
std::string_view health_text(Health health) {
  return word_of(healths, health);
}
std::string_view read_back_text(ReadBack state) {
  return word_of(read_backs, state);
}
std::optional<ReadBack> parse_read_back(std::string_view text) {
  return value_of(read_backs, text);
}
std::string_view depth_text(Depth depth) {
  return word_of(depths, depth);
}
std::optional<Depth> parse_depth(std::string_view text) {
  return value_of(depths, text);
}

}  // namespace kestrum
