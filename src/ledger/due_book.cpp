#include "ledger/due_book.hpp"

#include <algorithm>
#include <cstring>
#include <map>

#include "base/random.hpp"

namespace kestrum {
namespace {

constexpr const char* line_columns =
    "SELECT id, job, moment, first, moments, phrase, kind, fate, reason, late, own, run, start, told FROM "
    "due ";

DueLine read_line(const Statement& row) {
  DueLine line;
  line.id = row.integer(0);
  line.job = row.text(1);
  line.when = {row.integer(2), 0};
  line.first = {row.integer(3), 0};
  line.moments = static_cast<std::uint64_t>(row.integer(4));
  line.phrase = row.text(5);
  line.kind = parse_kind(row.text(6));
  line.fate = parse_fate(row.text(7)).value_or(DueFate::missed);
  line.reason = parse_due_reason(row.text(8)).value_or(DueReason::none);
  line.late = row.integer(9) != 0;
  line.own = row.integer(10) != 0;
  if (!row.is_null(11)) line.run = row.integer(11);
  line.start = row.integer(12);
  line.told = {row.integer(13), 0};
  return line;
}

std::vector<DueLine> read_lines(Statement& ask) {
  std::vector<DueLine> lines;
  while (ask.step()) lines.push_back(read_line(ask));
  return lines;
}

}  // namespace

std::vector<TimeSince> DueBook::known_times(const std::string& job) {
  Statement ask(ledger_.database().get(), "SELECT phrase, since FROM job_time WHERE job = ?");
  ask.bind(1, job);
  std::vector<TimeSince> times;
  while (ask.step()) times.push_back({ask.text(0), {ask.integer(1), 0}});
  return times;
}

std::vector<TimeSince> DueBook::count_times(const std::string& job, const std::vector<std::string>& phrases,
                                            Instant now) {
  std::map<std::string, Instant> known;
  for (const TimeSince& time : known_times(job)) known[time.phrase] = time.since;
  std::vector<TimeSince> times;
  bool changed = false;
  for (const std::string& phrase : phrases) {
    auto found = known.find(phrase);
    const bool counts = found != known.end() && found->second.seconds <= now.seconds + clock_ahead_seconds;
    times.push_back({phrase, counts ? found->second : Instant{now.seconds, 0}});
    changed = changed || !counts;
  }
  changed = changed || std::any_of(known.begin(), known.end(), [&](const auto& one) {
              return std::find(phrases.begin(), phrases.end(), one.first) == phrases.end();
            });
  if (!changed) return times;
  Transaction writing(ledger_.database(), "BEGIN IMMEDIATE");
  Statement clear(ledger_.database().get(), "DELETE FROM job_time WHERE job = ?");
  clear.bind(1, job).step();
  for (const TimeSince& time : times) {
    Statement insert(ledger_.database().get(),
                     "INSERT OR REPLACE INTO job_time (job, phrase, since) VALUES (?, ?, ?)");
    insert.bind(1, job).bind(2, time.phrase).bind(3, time.since.seconds).step();
  }
  writing.commit();
  return times;
}

std::optional<Instant> DueBook::newest_line(const std::string& job, Instant now) {
  Statement ask(ledger_.database().get(),
                "SELECT MAX(moment) FROM due WHERE job = ?1 AND moment <= ?2 AND told <= ?3");
  ask.bind(1, job).bind(2, now.seconds).bind(3, now.seconds + clock_ahead_seconds);
  if (!ask.step() || ask.is_null(0)) return std::nullopt;
  return Instant{ask.integer(0), 0};
}

std::int64_t DueBook::last_id() {
  Statement ask(ledger_.database().get(), "SELECT COALESCE(MAX(id), 0) FROM due");
  return ask.step() ? ask.integer(0) : 0;
}

void DueBook::forget_lines(std::int64_t made_after, Instant now) {
  Statement forget(ledger_.database().get(), "DELETE FROM due WHERE id > ?1 AND moment > ?2");
  forget.bind(1, made_after).bind(2, now.seconds).step();
}

void DueBook::forget_ahead(const std::string& job, std::optional<Instant> known, Instant now) {
  // Asked first: hardly ever is there one, and writing holds others up.
  const std::string which = "FROM due WHERE job = ?1 AND moment > ?2 AND moment <= ?3 AND told > ?4";
  for (const std::string& words : {"SELECT 1 " + which + " LIMIT 1", "DELETE " + which}) {
    Statement statement(ledger_.database().get(), words.c_str());
    statement.bind(1, job).bind(2, known ? known->seconds : std::int64_t{0}).bind(3, now.seconds);
    if (!statement.bind(4, now.seconds + clock_ahead_seconds).step()) return;
  }
}

void DueBook::add(const std::vector<DueLine>& lines, Instant now) {
  if (lines.empty()) return;
  Transaction writing(ledger_.database(), "BEGIN IMMEDIATE");
  Statement insert(
      ledger_.database().get(),
      "INSERT INTO due (job, moment, first, moments, phrase, kind, fate, reason, late, own, start, told) "
      "VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, 0, ?11) ON CONFLICT (job, moment) DO UPDATE SET "
      "first = excluded.first, moments = excluded.moments, phrase = excluded.phrase, kind = excluded.kind, "
      "fate = excluded.fate, reason = excluded.reason, late = excluded.late, own = excluded.own, run = NULL, "
      "start = 0, told = excluded.told WHERE due.told > ?12");
  for (const DueLine& line : lines) {
    insert.reset();
    insert.bind(1, line.job)
        .bind(2, line.when.seconds)
        .bind(3, line.moments > 1 ? line.first.seconds : line.when.seconds)
        .bind(4, static_cast<std::int64_t>(line.moments))
        .bind(5, line.phrase)
        .bind(6, line.kind ? kind_name(*line.kind) : std::string_view());
    insert.bind(7, fate_text(line.fate))
        .bind(8, due_reason_name(line.reason))
        .bind(9, line.late ? 1 : 0)
        .bind(10, line.own ? 1 : 0)
        .bind(11, now.seconds)
        .bind(12, now.seconds + clock_ahead_seconds)
        .step();
  }
  writing.commit();
}

void DueBook::update(const DueLine& line) {
  Statement update(
      ledger_.database().get(),
      "UPDATE due SET fate = ?2, reason = ?3, late = ?4, own = ?5, run = ?6, start = ?7 WHERE id = ?1");
  update.bind(1, line.id)
      .bind(2, fate_text(line.fate))
      .bind(3, due_reason_name(line.reason))
      .bind(4, line.late ? 1 : 0)
      .bind(5, line.own ? 1 : 0);
  if (line.run) {
    update.bind(6, *line.run);
  } else {
    update.bind_null(6);
  }
  update.bind(7, line.start).step();
}

std::vector<DueLine> DueBook::waiting(const std::string& job) {
  Statement ask(
      ledger_.database().get(),
      (std::string(line_columns) + "WHERE fate = 'waiting' AND (?1 = '' OR job = ?1) ORDER BY job, moment")
          .c_str());
  ask.bind(1, job);
  return read_lines(ask);
}

std::vector<DueLine> DueBook::of_run(std::int64_t run_id) {
  Statement ask(ledger_.database().get(),
                (std::string(line_columns) + "WHERE run = ?1 ORDER BY moment").c_str());
  ask.bind(1, run_id);
  return read_lines(ask);
}

std::vector<DueLine> DueBook::lines(const std::string& job, std::size_t most, Instant until) {
  Statement ask(ledger_.database().get(),
                (std::string(line_columns) +
                 "WHERE (?1 = '' OR job = ?1) AND moment <= ?3 AND told <= ?4 ORDER BY moment DESC LIMIT ?2")
                    .c_str());
  ask.bind(1, job).bind(2, static_cast<std::int64_t>(most)).bind(3, until.seconds);
  ask.bind(4, until.seconds + clock_ahead_seconds);
  return read_lines(ask);
}

std::int64_t DueBook::prepare_start(const std::vector<DueLine>& lines) {
  std::int64_t start = 0;
  while (start == 0) {
    const Id id = random_id();
    std::memcpy(&start, id.data(), sizeof start);
    start &= 0x7fffffffffffffff;  // SQLite's integers have a sign
  }
  Transaction writing(ledger_.database(), "BEGIN IMMEDIATE");
  Statement update(ledger_.database().get(),
                   "UPDATE due SET start = ?2, own = ?3 WHERE id = ?1 AND fate = 'waiting'");
  for (const DueLine& line : lines) {
    update.reset();
    update.bind(1, line.id).bind(2, start).bind(3, &line == &lines.back() ? 1 : 0).step();
  }
  writing.commit();
  return start;
}

void DueBook::give_up_all_starts() {
  ledger_.database().run("UPDATE due SET start = 0 WHERE fate = 'waiting'");
}

static AgentEvent read_event(Statement& row) {
  return {{row.integer(0), 0}, row.text(1), row.text(2), row.text(3)};
}

void DueBook::add_event(const AgentEvent& event) {
  Statement insert(ledger_.database().get(),
                   "INSERT INTO event (moment, job, what, words) VALUES (?, ?, ?, ?)");
  insert.bind(1, event.when.seconds).bind(2, event.job).bind(3, event.what).bind(4, event.words).step();
}

std::vector<AgentEvent> DueBook::events(std::size_t most) {
  Statement ask(ledger_.database().get(),
                "SELECT moment, job, what, words FROM event ORDER BY id DESC LIMIT ?");
  ask.bind(1, static_cast<std::int64_t>(most));
  std::vector<AgentEvent> events;
  while (ask.step()) events.push_back(read_event(ask));
  return events;
}

std::optional<AgentEvent> DueBook::watching(const std::string& job) {
  Statement ask(ledger_.database().get(),
                "SELECT moment, job, what, words FROM event WHERE job = ?1 AND what IN (?2, ?3) "
                "ORDER BY id DESC LIMIT 1");
  ask.bind(1, job).bind(2, std::string(AgentEvent::watched)).bind(3, std::string(AgentEvent::unwatched));
  if (!ask.step()) return std::nullopt;
  return read_event(ask);
}

}  // namespace kestrum
