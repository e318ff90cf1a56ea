#include "cli/countdown.hpp"

#include <charconv>
#include <filesystem>

#include "base/shell_command.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/tell_words.hpp"
#include "engine/desk_notice.hpp"

namespace kestrum {
namespace {

class ShownCountdown final : public CountdownListener {
 public:
  ShownCountdown(const RunContext& context, bool everywhere)
      : context_(context), control_(context.control), everywhere_(everywhere) {}

  // The agent would do it once this process has ended: too late.
  void begins() override {
    if (everywhere_) print_told(tell_news(context_));
  }

  void left(Afterwards what, int seconds) override {
    const std::string text =
        std::string("This machine ") + (what == Afterwards::standby ? "goes to standby" : "is switched off") +
        " in " + std::to_string(seconds) + " s, as a backup job wants it. To stay on: kestrum stay";
    err("{}\n", text);
    if (everywhere_ && seconds == countdown_seconds) tell_all(text);
  }
  void stays(const std::string& because) override { err("The machine stays on: {}\n", because); }

 private:
  void tell_all(const std::string& text) {
    try {
      constexpr std::chrono::seconds limit(5);
      run_shell("wall " + shell_word(text), {}, limit, control_);
    } catch (const Error&) {
      // Who has no terminal is told at the desk.
    }
    notify_person(geteuid(), "This machine is about to rest", text, context_.session_bus);
    std::error_code code;
    for (const auto& entry : std::filesystem::directory_iterator("/run/user", code)) {
      const std::string name = entry.path().filename();
      uid_t person = 0;
      const auto [end, bad] = std::from_chars(name.data(), name.data() + name.size(), person);
      if (bad == std::errc() && end == name.data() + name.size() && person != geteuid())
        notify_person(person, "This machine is about to rest", text, context_.session_bus);
    }
  }

  const RunContext& context_;
  RunControl& control_;
  bool everywhere_;
};

}  // namespace

void finish_shown(const std::vector<RunOutcome>& outcomes, const Environment& environment, bool everywhere) {
  Progress progress(environment, true);
  const RunContext context = run_context(environment, progress);
  ShownCountdown shown(context, everywhere);
  finish_row(outcomes, context, shown);
}

}  // namespace kestrum
