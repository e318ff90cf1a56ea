// What the system cannot do at a moment (too many open files, no memory, a read that fails) is no damage: it
// is neither told nor remembered as such, and afterwards everything is as it was.
#include <gtest/gtest.h>

#include <atomic>
#include <cerrno>
#include <iostream>

#include "base/exit_codes.hpp"
#include "store/forwarding_store.hpp"
#include "store/store_error.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

// Fails the n-th looking operation: an open, a read, a listing.
class FailingReads final : public ForwardingStore {
 public:
  struct State {
    std::atomic<std::uint64_t> done{0};
    std::uint64_t at = 0;  // 0: never
    int code = EIO;
    void step(const char* what, const std::string& path) {
      if (++done == at) throw store_error(what, path, code);
    }
  };
  FailingReads(std::unique_ptr<Store> inner, std::shared_ptr<State> state)
      : ForwardingStore(std::move(inner)), state_(std::move(state)) {}

  bool exists(const std::string& path) const override {
    state_->step("look at", path);
    return ForwardingStore::exists(path);
  }
  std::vector<StoreEntry> list(const std::string& folder) const override {
    state_->step("list", folder);
    return ForwardingStore::list(folder);
  }
  std::unique_ptr<StoreReader> try_open(const std::string& path) const override {
    state_->step("open", path);
    std::unique_ptr<StoreReader> inner = ForwardingStore::try_open(path);
    if (!inner) return nullptr;
    return std::make_unique<Reader>(std::move(inner), path, state_);
  }

 private:
  class Reader final : public StoreReader {
   public:
    Reader(std::unique_ptr<StoreReader> inner, std::string path, std::shared_ptr<State> state)
        : inner_(std::move(inner)), path_(std::move(path)), state_(std::move(state)) {}
    std::uint64_t size() const override { return inner_->size(); }
    void read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
      state_->step("read", path_);
      inner_->read_at(offset, out);
    }
    void drop_cache() const override { inner_->drop_cache(); }

   private:
    std::unique_ptr<StoreReader> inner_;
    std::string path_;
    std::shared_ptr<State> state_;
  };
  std::shared_ptr<State> state_;
};

class SystemErrors : private InMemory, public testing::TestWithParam<int> {
 protected:
  SystemErrors() {
    bench_.open_store = [this](const std::string& root) {
      return std::make_unique<FailingReads>(open_local_store(root), state_);
    };
    for (int i = 0; i < 4; ++i) {
      for (int file = 0; file < 12; ++file)
        write_file(bench_.source() + "/list-" + std::to_string(file), noise(i * 100 + file, 30000));
      bench_.run_good();
    }
    expected_ = take_snapshot(bench_.source());
    state_->code = GetParam();
  }

  // How many operations it takes when nothing fails.
  std::uint64_t count(const std::function<void()>& command) {
    state_->done = 0;
    state_->at = 0;
    command();
    return state_->done;
  }
  void fail_at(std::uint64_t moment) {
    state_->done = 0;
    state_->at = moment;
  }
  // Nothing of what went wrong is remembered against any set.
  void expect_no_damage(std::uint64_t moment) {
    state_->at = 0;
    History history = History::open(bench_.home(), [](const std::string&) {});
    for (const FoundSet& set : bench_.subject().sets()) {
      ASSERT_TRUE(set.sealed()) << moment;
      std::optional<CheckEntry> check = history.checks(set.facts().set).last;
      EXPECT_TRUE(!check || check->good) << "recorded as damage, at " << moment;
    }
  }
  template <typename Use>
  void at_moments(std::uint64_t all, std::uint64_t wanted, Use&& use) {
    for (std::uint64_t i = 0; i < wanted && i < all; ++i) {
      std::uint64_t moment = 1 + i * all / std::min(wanted, all);
      fail_at(moment);
      use(moment);
      expect_no_damage(moment);
      if (HasFailure()) return;
    }
    std::cout << std::min(wanted, all) << " of " << all << " moments\n";
  }

  std::shared_ptr<FailingReads::State> state_ = std::make_shared<FailingReads::State>();
  Workbench bench_{
      "[how]\nvolume-size = \"64 KiB\"\n[protect]\nencryption = \"none\"\n[keep]\npoints = \"100 points\"\n"};
  Snapshot expected_;
};

TEST_P(SystemErrors, VerifyTellsNoDamage) {
  auto verify_all = [&] {
    LookSession session = bench_.subject();
    History history = History::open(bench_.home(), [](const std::string&) {});
    VerifyRequest request;
    return verify(session, request, *bench_.clock, &history, *bench_.observer, bench_.control);
  };
  std::uint64_t all = count([&] { EXPECT_TRUE(verify_all().good()); });
  at_moments(all, 100, [&](std::uint64_t moment) {
    try {
      const Instant begun = bench_.clock->now();
      VerifyResult result = verify_all();
      EXPECT_FALSE(result.damaged()) << moment;
      // What was not read through is not remembered as good either.
      History history = History::open(bench_.home(), [](const std::string&) {});
      for (const PointVerdict& verdict : result.points) {
        if (verdict.unreadable.empty() || !verdict.facts) continue;
        std::optional<CheckEntry> check = history.checks(verdict.facts->set).last;
        EXPECT_TRUE(!check || check->when < begun) << moment;
      }
    } catch (const Error& error) {
      EXPECT_NE(error.kind(), ErrorKind::damage) << moment << ": " << error.what();
    }
  });
  EXPECT_TRUE(verify_all().good());
}

TEST_P(SystemErrors, ARestoreTellsNoDamage) {
  int n = 0;
  auto restore_all = [&] { return bench_.restore_to(bench_.path("out-" + std::to_string(++n)), 4); };
  std::uint64_t all = count([&] { EXPECT_TRUE(restore_all().problems.empty()); });
  at_moments(all, 100, [&](std::uint64_t moment) {
    try {
      EXPECT_FALSE(restore_all().damaged) << moment;
    } catch (const Error& error) {
      EXPECT_NE(error.kind(), ErrorKind::damage) << moment << ": " << error.what();
    }
  });
}

TEST_P(SystemErrors, ARunTellsNoDamage) {
  auto run_again = [&] {
    write_file(bench_.source() + "/list-3", noise(static_cast<unsigned>(state_->done), 30000));
    return bench_.run();
  };
  std::uint64_t all = count([&] { EXPECT_FALSE(run_again().error); });
  at_moments(all, 100, [&](std::uint64_t moment) {
    RunOutcome outcome = run_again();
    EXPECT_NE(outcome.entry.exit_code, exit_code_of(ErrorKind::damage))
        << moment << ": " << outcome.entry.message;
    for (const Problem& problem : outcome.problems)
      EXPECT_EQ(problem.reason.find("damage"), std::string::npos) << moment << ": " << problem.reason;
  });
  state_->at = 0;
  EXPECT_TRUE(bench_.verified().good());
}

INSTANTIATE_TEST_SUITE_P(Codes, SystemErrors, testing::Values(EMFILE, EIO, ENOMEM), [](const auto& code) {
  return code.param == EMFILE ? "too_many_open_files" : code.param == EIO ? "read_fails" : "no_memory";
});

}  // namespace
}  // namespace kestrum::test
