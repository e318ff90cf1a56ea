// Sources that are watched, and runs that are told what has happened in them.
#pragma once

#include <gtest/gtest.h>
#include <sys/fsuid.h>
#include <sys/stat.h>
#include <unistd.h>

#include <thread>

#include "archive/catalog_reader.hpp"
#include "engine/watched_run.hpp"
#include "job/job_selection.hpp"
#include "ledger/due_book.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace fs = std::filesystem;
using Way = ChangeWatch::Way;
using How = FolderChange::How;

inline TreePath tree_path(const std::string& path) {
  return *TreePath::parse(path);
}

class Noted final : public Observer {
 public:
  void note(const std::string& text) override { notes.push_back(text); }
  bool says(const std::string& part) const {
    return std::any_of(notes.begin(), notes.end(),
                       [&](const std::string& one) { return one.find(part) != std::string::npos; });
  }
  std::vector<std::string> notes;
};

inline const std::string cache_tag = "Signature: 8a477f597d28d172789f06886806bc55\n";

inline std::string first_difference(const std::vector<std::string>& a, const std::vector<std::string>& b) {
  for (std::size_t i = 0; i < std::min(a.size(), b.size()); ++i) {
    if (a[i] != b[i]) return a[i] + "\n" + b[i];
  }
  return a.size() == b.size() ? ""
                              : std::to_string(a.size()) + " and " + std::to_string(b.size()) + " entries";
}

inline std::string name_of(Way way) {
  return way == Way::folders ? "Folders" : "FileSystems";
}

class Watched : public testing::TestWithParam<Way> {
 protected:
  void SetUp() override {
    if (GetParam() == Way::file_systems && geteuid() != 0) GTEST_SKIP() << "only root watches file systems";
  }

  Selection selection() {
    const Job job = bench_.home().load_job("job");
    return select(job.what, {}, SystemClock().now(), [](const std::string&) {});
  }
  void watch(std::size_t most = 200000) {
    ChangeWatch::Settings settings;
    settings.ways = {GetParam()};
    settings.most_remembered = most;
    settings.quiet = quiet_;
    mark_ = selection_mark(selection());
    Selection all = selection();
    setfsuid(watcher_);
    watch_.emplace(std::move(all), settings, [] {});
    setfsuid(geteuid());
    for (int i = 0; i < 1000 && watch_->standing().state == ChangeWatch::State::beginning; ++i)
      std::this_thread::sleep_for(std::chrono::milliseconds(10));
  }
  void begin(std::size_t most = 200000) {
    watch(most);
    ASSERT_EQ(watch_->standing().state, ChangeWatch::State::watching) << watch_->standing().words;
  }
  // A run that was told what has happened, as the agent has it made.
  RunOutcome run(bool everything = false) {
    if (std::optional<ChangeWatch::HandOver> told = watch_->hand_over()) handed_ = std::move(*told);
    return run_told(everything);
  }
  RunOutcome run_told(bool everything) {
    Ledger ledger(bench_.home().ledger_path());
    DueBook book(ledger);
    const Instant now{++second_, 0};
    book.add({DueLine{.job = "job", .when = now, .first = now, .phrase = "on change"}}, now);
    noted_.notes.clear();
    bench_.observer = &noted_;
    RunContext context = bench_.context();
    context.start = book.prepare_start(book.waiting("job"));
    write_watch_note(bench_.home(), "job", {context.start, mark_, SystemClock().now(), everything, handed_});
    RunOutcome outcome = run_job("job", {}, context).back();
    EXPECT_TRUE(outcome.entry.sequence) << outcome.entry.message;
    return outcome;
  }
  // What happened is told; whether at once, without beginning anew.
  bool told_at_once() {
    std::optional<ChangeWatch::HandOver> told = watch_->hand_over();
    const bool at_once = told.has_value();
    for (int i = 0; i < 600 && !told; ++i) {
      std::this_thread::sleep_for(std::chrono::milliseconds(10));
      told = watch_->hand_over();
    }
    EXPECT_TRUE(told);
    return at_once;
  }
  bool looked_at_a_part() const {
    return noted_.says("in which something happened") && !noted_.says("everything");
  }
  // All that a catalog says of what it lists, but for marks that say how surely it was read.
  std::vector<std::string> listed(Sequence sequence) {
    LookSession session = bench_.subject();
    KeyRing keys({});
    ChainReader chain(session.store(), session.sets(), keys);
    PointReader point(chain, sequence);
    CatalogReader reader(point, point.set().root().catalog);
    std::vector<std::string> lines;
    while (std::optional<Entry> entry = reader.next()) {
      if (entry->above_source) continue;  // of the test's own making
      entry->fresh = false;
      ByteWriter out;
      for (ContentItem& item : entry->content) item.sequence = 0;
      if (entry->attribute_chunk) entry->attribute_chunk->sequence = 0;
      write_entry(out, *entry, "");
      lines.push_back(entry->path.joined() + " " + to_hex(out.view()));
    }
    return lines;
  }

  // Of the file system that is watched others fill no queue.
  InMemory in_memory_;
  Workbench bench_;
  std::vector<TreePath> quiet_;
  uid_t watcher_ = geteuid();  // who watches
  Noted noted_;
  std::string mark_;  // of what is watched
  std::optional<ChangeWatch> watch_;
  ChangeWatch::HandOver handed_;
  std::int64_t second_ = 1000;
};

}  // namespace kestrum::test
