#include "ledger/ledger.hpp"

#include <sqlite3.h>

#include <cstdio>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

// Version 1. A later version adds its own step; steps are never changed.
constexpr const char* schema_1 = R"(
CREATE TABLE run (
  id INTEGER PRIMARY KEY, job TEXT NOT NULL, number INTEGER NOT NULL, started TEXT NOT NULL, ended TEXT,
  result TEXT NOT NULL, exit_code INTEGER NOT NULL, message TEXT NOT NULL, destination TEXT NOT NULL, sequence INTEGER,
  kind TEXT NOT NULL, reason TEXT NOT NULL, files INTEGER NOT NULL, folders INTEGER NOT NULL, others INTEGER NOT NULL,
  bytes INTEGER NOT NULL, new_files INTEGER NOT NULL, changed_files INTEGER NOT NULL, gone_files INTEGER NOT NULL,
  read_bytes INTEGER NOT NULL, new_bytes INTEGER NOT NULL, stored_bytes INTEGER NOT NULL, problems INTEGER NOT NULL,
  log_file TEXT NOT NULL, checked TEXT NOT NULL, UNIQUE (job, number));
CREATE TABLE problem (
  id INTEGER PRIMARY KEY, run INTEGER NOT NULL REFERENCES run(id) ON DELETE CASCADE, path BLOB NOT NULL,
  operation TEXT NOT NULL, reason TEXT NOT NULL);
CREATE INDEX problem_run ON problem(run);
CREATE TABLE set_check (
  id INTEGER PRIMARY KEY, set_id TEXT NOT NULL, at TEXT NOT NULL, depth TEXT NOT NULL, good INTEGER NOT NULL,
  lost TEXT NOT NULL, affected INTEGER);
CREATE INDEX set_check_set ON set_check(set_id);
PRAGMA user_version = 1;
)";

constexpr const char* schema_2 = R"(
ALTER TABLE run ADD COLUMN upkeep TEXT NOT NULL DEFAULT '';
PRAGMA user_version = 2;
)";

constexpr const char* schema_3 = R"(
ALTER TABLE run ADD COLUMN set_id TEXT NOT NULL DEFAULT '';
PRAGMA user_version = 3;
)";

constexpr const char* schema_4 = R"(
ALTER TABLE run ADD COLUMN broken TEXT NOT NULL DEFAULT '';
PRAGMA user_version = 4;
)";

constexpr const char* schema_5 = R"(
ALTER TABLE run ADD COLUMN process TEXT NOT NULL DEFAULT '';
CREATE INDEX run_job ON run(job, id);
CREATE TABLE job_time (job TEXT NOT NULL, phrase TEXT NOT NULL, since INTEGER NOT NULL, PRIMARY KEY (job, phrase));
CREATE TABLE due (
  id INTEGER PRIMARY KEY, job TEXT NOT NULL, moment INTEGER NOT NULL, first INTEGER NOT NULL, moments INTEGER NOT NULL,
  phrase TEXT NOT NULL, kind TEXT NOT NULL, fate TEXT NOT NULL, reason TEXT NOT NULL, late INTEGER NOT NULL,
  run INTEGER REFERENCES run(id) ON DELETE SET NULL, own INTEGER NOT NULL, start INTEGER NOT NULL, told INTEGER NOT NULL,
  UNIQUE (job, moment));
CREATE INDEX due_waiting ON due(fate, job) WHERE fate = 'waiting';
CREATE INDEX due_run ON due(run);
CREATE TABLE event (id INTEGER PRIMARY KEY, moment INTEGER NOT NULL, job TEXT NOT NULL, what TEXT NOT NULL, words TEXT NOT NULL);
PRAGMA user_version = 5;
)";

constexpr const char* schema_6 = R"(
CREATE TABLE restore (
  id INTEGER PRIMARY KEY, job TEXT NOT NULL, machine TEXT NOT NULL, drive TEXT NOT NULL, point INTEGER NOT NULL,
  point_started TEXT NOT NULL, started TEXT NOT NULL, seconds INTEGER NOT NULL, result TEXT NOT NULL, place TEXT NOT NULL,
  files INTEGER NOT NULL, bytes INTEGER NOT NULL, left_alone INTEGER NOT NULL, problems INTEGER NOT NULL);
PRAGMA user_version = 6;
)";

constexpr const char* schema_7 = R"(
CREATE TABLE proof (
  set_id TEXT NOT NULL, slot INTEGER NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL, content INTEGER NOT NULL,
  at TEXT NOT NULL);
CREATE INDEX proof_set ON proof(set_id, slot, first);
CREATE TABLE check_round (name TEXT PRIMARY KEY, began TEXT NOT NULL);
PRAGMA user_version = 7;
)";

constexpr const char* schema_8 = R"(
CREATE TABLE job_check (
  id INTEGER PRIMARY KEY, job TEXT NOT NULL, started TEXT NOT NULL, ended TEXT, process TEXT NOT NULL,
  exit_code INTEGER NOT NULL, bytes INTEGER NOT NULL, left_bytes INTEGER NOT NULL, complete INTEGER NOT NULL,
  message TEXT NOT NULL);
CREATE INDEX job_check_job ON job_check(job, id);
PRAGMA user_version = 8;
)";

constexpr const char* schema_9 = R"(
ALTER TABLE job_check ADD COLUMN kind TEXT NOT NULL DEFAULT 'check';
CREATE TABLE drill (
  id INTEGER PRIMARY KEY, job TEXT NOT NULL, drive TEXT NOT NULL, at TEXT NOT NULL, point INTEGER NOT NULL,
  point_started TEXT NOT NULL, files INTEGER NOT NULL, all_files INTEGER NOT NULL, bytes INTEGER NOT NULL,
  all_bytes INTEGER NOT NULL, bad INTEGER NOT NULL, source_same INTEGER NOT NULL, source_differs INTEGER NOT NULL,
  opened INTEGER NOT NULL, unopened INTEGER NOT NULL, trials INTEGER NOT NULL, failed_trials INTEGER NOT NULL,
  seconds INTEGER NOT NULL, all_seconds INTEGER NOT NULL, good INTEGER NOT NULL);
CREATE INDEX drill_job ON drill(job, id);
PRAGMA user_version = 9;
)";

// Points as they lay on a drive; `gone`: when they were let go.
constexpr const char* schema_10 = R"(
CREATE TABLE point (
  set_id TEXT NOT NULL, job_id TEXT NOT NULL, drive_id TEXT NOT NULL, sequence INTEGER NOT NULL, kind TEXT NOT NULL,
  started TEXT NOT NULL, files INTEGER NOT NULL, bytes INTEGER NOT NULL, gone TEXT, PRIMARY KEY (set_id, drive_id));
CREATE INDEX point_place ON point(job_id, drive_id, sequence);
PRAGMA user_version = 10;
)";

constexpr const char* run_columns =
    "SELECT id, job, number, started, ended, result, exit_code, message, destination, sequence, kind, "
    "reason, files, folders, "
    "others, bytes, new_files, changed_files, gone_files, read_bytes, new_bytes, stored_bytes, problems, "
    "log_file, checked, upkeep, set_id, broken, process FROM run ";

std::optional<Id> id_of(const std::string& hex) {
  std::optional<Bytes> bytes = from_hex(hex);
  Id id{};
  if (!bytes || bytes->size() != id.size()) return std::nullopt;
  std::copy(bytes->begin(), bytes->end(), id.begin());
  return id;
}

// A line for each: points, the oldest that is left or nothing, and the rule, with tabs between.
std::string broken_lines(const std::vector<BrokenRule>& broken) {
  std::vector<std::string> lines;
  for (const BrokenRule& one : broken)
    lines.push_back(std::to_string(one.points) + "\t" + (one.oldest_left ? utc_text(*one.oldest_left) : "") +
                    "\t" + one.rule);
  return join(lines, "\n");
}

std::vector<BrokenRule> read_broken(const std::string& lines) {
  std::vector<BrokenRule> broken;
  for (const std::string& line : split(lines, '\n')) {
    const std::vector<std::string> parts = split(line, '\t');
    if (parts.size() != 3) continue;
    broken.push_back({parts[2], std::strtoull(parts[0].c_str(), nullptr, 10), parse_utc(parts[1])});
  }
  return broken;
}

RunEntry read_run(const Statement& row) {
  RunEntry run;
  run.id = row.integer(0);
  run.job = row.text(1);
  run.number = row.integer(2);
  run.started = parse_utc(row.text(3)).value_or(Instant{});
  if (!row.is_null(4)) run.ended = parse_utc(row.text(4));
  run.result = parse_result(row.text(5)).value_or(RunResult::failed);
  run.exit_code = static_cast<int>(row.integer(6));
  run.message = row.text(7);
  run.destination = row.text(8);
  if (!row.is_null(9)) run.sequence = static_cast<Sequence>(row.integer(9));
  run.kind = parse_kind(row.text(10));
  run.reason = row.text(11);
  std::uint64_t SetTotals::*const fields[] = {
      &SetTotals::files,     &SetTotals::folders,       &SetTotals::others,     &SetTotals::bytes,
      &SetTotals::new_files, &SetTotals::changed_files, &SetTotals::gone_files, &SetTotals::read_bytes,
      &SetTotals::new_bytes, &SetTotals::stored_bytes};
  int column = 12;
  for (auto field : fields) run.totals.*field = static_cast<std::uint64_t>(row.integer(column++));
  run.problems = row.integer(22);
  run.log_file = row.text(23);
  run.checked = parse_read_back(row.text(24)).value_or(ReadBack::none);
  if (!row.text(25).empty()) run.upkeep = split(row.text(25), '\n');
  run.set = id_of(row.text(26));
  run.broken = read_broken(row.text(27));
  run.process = row.text(28);
  return run;
}

}  // namespace

Ledger::Ledger(const std::string& path, Access access) : database_(path, access == Access::writing) {
  migrate(access);
}

std::unique_ptr<Ledger> Ledger::open_or_renew(const std::string& path,
                                              const std::function<void(const std::string&)>& note) {
  try {
    return std::make_unique<Ledger>(path);
  } catch (const Error& error) {
    bool damaged = error.system_code() == SQLITE_NOTADB || error.system_code() == SQLITE_CORRUPT;
    if (!damaged || std::rename(path.c_str(), (path + ".damaged").c_str()) != 0) throw;
    for (const char* part : {"-wal", "-shm"}) std::remove((path + part).c_str());
    note("the ledger does not read and was moved to " + printable(path) +
         ".damaged; the history begins anew");
    return std::make_unique<Ledger>(path);
  }
}

void Ledger::migrate(Access access) {
  if (access == Access::writing) database_.run("BEGIN IMMEDIATE");
  std::int64_t found = 0;
  {
    Statement ask(database_.get(), "PRAGMA user_version");
    ask.step();
    found = ask.integer(0);
  }
  if (found > version) {
    if (access == Access::writing) database_.run("ROLLBACK");
    throw Error(ErrorKind::failed, "the ledger was written by a newer version of kestrum",
                "use that version, or move the ledger away: it only keeps history");
  }
  if (access == Access::reading) {
    if (found < version)
      throw Error(ErrorKind::failed, "the ledger is of an older version and cannot be written");
    return;
  }
  if (found < 1) database_.run(schema_1);
  if (found < 2) database_.run(schema_2);
  if (found < 3) database_.run(schema_3);
  if (found < 4) database_.run(schema_4);
  if (found < 5) database_.run(schema_5);
  if (found < 6) database_.run(schema_6);
  if (found < 7) database_.run(schema_7);
  if (found < 8) database_.run(schema_8);
  if (found < 9) database_.run(schema_9);
  if (found < 10) database_.run(schema_10);
  database_.run("COMMIT");
}

void Ledger::begin_run(RunEntry& run, std::int64_t start) {
  Transaction writing(database_, "BEGIN IMMEDIATE");
  Statement insert(database_.get(),
                   "INSERT INTO run (job, number, started, result, exit_code, message, destination, kind, "
                   "reason, files, folders, "
                   "others, bytes, new_files, changed_files, gone_files, read_bytes, new_bytes, "
                   "stored_bytes, problems, log_file, checked, process) "
                   "VALUES (?1, 1 + (SELECT COALESCE(MAX(number), 0) FROM run WHERE job = ?1), ?2, "
                   "'running', 0, '', ?3, '', '', "
                   "0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, '', '', ?4)");
  insert.bind(1, run.job).bind(2, utc_text(run.started)).bind(3, to_utf8(run.destination));
  insert.bind(4, run.process).step();
  run.id = database_.last_row();
  Statement ask(database_.get(), "SELECT number FROM run WHERE id = ?");
  ask.bind(1, run.id).step();
  run.number = ask.integer(0);
  if (start != 0) {
    Statement take(database_.get(),
                   "UPDATE due SET fate = 'ran', run = ?2 WHERE start = ?1 AND fate = 'waiting'");
    take.bind(1, start).bind(2, run.id).step();
    if (database_.changed_rows() == 0) throw NotAskedFor();
  }
  writing.commit();
}

void Ledger::finish_run(const RunEntry& run, const std::vector<Problem>& problems) {
  Transaction writing(database_, "BEGIN IMMEDIATE");
  Statement update(
      database_.get(),
      "UPDATE run SET ended=?2, result=?3, exit_code=?4, message=?5, sequence=?6, kind=?7, reason=?8, "
      "files=?9, "
      "folders=?10, others=?11, bytes=?12, new_files=?13, changed_files=?14, gone_files=?15, read_bytes=?16, "
      "new_bytes=?17, stored_bytes=?18, problems=?19, log_file=?20, checked=?21, upkeep=?22, set_id=?23, "
      "broken=?24 "
      "WHERE id=?1");
  update.bind(1, run.id)
      .bind(2, utc_text(run.ended.value_or(run.started)))
      .bind(3, result_text(run.result))
      .bind(4, run.exit_code);
  update.bind(5, to_utf8(run.message));
  if (run.sequence) {
    update.bind(6, std::int64_t{*run.sequence});
  } else {
    update.bind_null(6);
  }
  update.bind(7, run.kind ? kind_name(*run.kind) : std::string_view()).bind(8, run.reason);
  const SetTotals& totals = run.totals;
  int at = 9;
  for (std::uint64_t value :
       {totals.files, totals.folders, totals.others, totals.bytes, totals.new_files, totals.changed_files,
        totals.gone_files, totals.read_bytes, totals.new_bytes, totals.stored_bytes}) {
    update.bind(at++, static_cast<std::int64_t>(value));
  }
  update.bind(19, run.problems)
      .bind(20, to_utf8(run.log_file))
      .bind(21, run.checked == ReadBack::none ? std::string_view() : read_back_text(run.checked))
      .bind(22, join(run.upkeep, "\n"))
      .bind(23, run.set ? to_hex(*run.set) : std::string())
      .bind(24, broken_lines(run.broken))
      .step();
  for (const Problem& problem : problems) insert_problem(run.id, problem);
  writing.commit();
}

void Ledger::insert_problem(std::int64_t run_id, const Problem& problem) {
  Statement insert(database_.get(), "INSERT INTO problem (run, path, operation, reason) VALUES (?, ?, ?, ?)");
  insert.bind(1, run_id)
      .bind_blob(2, problem.path)
      .bind(3, problem.operation)
      .bind(4, to_utf8(problem.reason))
      .step();
}

void Ledger::add_problem(std::int64_t run_id, const Problem& problem) {
  Transaction writing(database_, "BEGIN IMMEDIATE");
  insert_problem(run_id, problem);
  Statement update(database_.get(),
                   "UPDATE run SET problems = problems + 1, exit_code = MAX(exit_code, 1), "
                   "result = CASE result WHEN 'done' THEN 'done with problems' ELSE result END WHERE id = ?");
  update.bind(1, run_id).step();
  writing.commit();
}

std::vector<RunEntry> Ledger::runs(const std::string& job, int most) {
  Statement ask(database_.get(),
                (std::string(run_columns) + "WHERE ?1 = '' OR job = ?1 ORDER BY id DESC LIMIT ?2").c_str());
  ask.bind(1, job).bind(2, most);
  std::vector<RunEntry> runs;
  while (ask.step()) runs.push_back(read_run(ask));
  return runs;
}

std::optional<RunEntry> Ledger::run(const std::string& job, std::int64_t number) {
  Statement ask(database_.get(), (std::string(run_columns) + "WHERE job = ?1 AND number = ?2").c_str());
  ask.bind(1, job).bind(2, number);
  if (!ask.step()) return std::nullopt;
  return read_run(ask);
}

std::optional<RunEntry> Ledger::run_by_id(std::int64_t id) {
  Statement ask(database_.get(), (std::string(run_columns) + "WHERE id = ?1").c_str());
  ask.bind(1, id);
  if (!ask.step()) return std::nullopt;
  return read_run(ask);
}

std::vector<RunEntry> Ledger::unended_runs() {
  Statement ask(
      database_.get(),
      (std::string(run_columns) + "WHERE ended IS NULL AND result = 'running' ORDER BY id").c_str());
  std::vector<RunEntry> runs;
  while (ask.step()) runs.push_back(read_run(ask));
  return runs;
}

void Ledger::record_cut_off(std::int64_t id, const std::string& message) {
  Statement update(
      database_.get(),
      "UPDATE run SET result = 'failed', exit_code = 3, message = ?2 WHERE id = ?1 AND ended IS NULL");
  update.bind(1, id).bind(2, message).step();
}

std::vector<Problem> Ledger::problems(std::int64_t run_id) {
  Statement ask(database_.get(), "SELECT path, operation, reason FROM problem WHERE run = ? ORDER BY id");
  ask.bind(1, run_id);
  std::vector<Problem> problems;
  while (ask.step()) problems.push_back({ask.text(0), ask.text(1), ask.text(2)});
  return problems;
}

void Ledger::add_check(const Id& set, const CheckEntry& check) {
  Statement insert(
      database_.get(),
      "INSERT INTO set_check (set_id, at, depth, good, lost, affected) VALUES (?, ?, ?, ?, ?, ?)");
  insert.bind(1, to_hex(set))
      .bind(2, utc_text(check.when))
      .bind(3, depth_text(check.depth))
      .bind(4, check.good ? 1 : 0)
      .bind(5, check.lost.text());
  if (check.affected) {
    insert.bind(6, static_cast<std::int64_t>(*check.affected));
  } else {
    insert.bind_null(6);
  }
  insert.step();
}

void Ledger::rename_job(const std::string& from, const std::string& to) {
  Transaction writing(database_, "BEGIN IMMEDIATE");
  Statement most(database_.get(), "SELECT COALESCE(MAX(number), 0) FROM run WHERE job = ?");
  most.bind(1, to);
  const std::int64_t behind = most.step() ? most.integer(0) : 0;
  Statement move(database_.get(), "UPDATE run SET job = ?, number = number + ? WHERE job = ?");
  move.bind(1, to);
  move.bind(2, behind);
  move.bind(3, from);
  move.step();
  // Of what was due under both names, what the other one has stays.
  for (const char* sql :
       {"UPDATE OR IGNORE due SET job = ?2 WHERE job = ?1", "DELETE FROM due WHERE job = ?1 AND ?2 <> ?1",
        "UPDATE OR REPLACE job_time SET job = ?2 WHERE job = ?1",
        "UPDATE OR REPLACE job_time SET job = ?2 || '/check' WHERE job = ?1 || '/check'",
        "UPDATE job_check SET job = ?2 WHERE job = ?1"}) {
    Statement go_on(database_.get(), sql);
    go_on.bind(1, from).bind(2, to).step();
  }
  writing.commit();
}

std::optional<RunEntry> Ledger::newest_point(const std::string& job, const std::string& destination) {
  Statement ask(database_.get(),
                (std::string(run_columns) +
                 "WHERE job = ?1 AND destination = ?2 AND sequence IS NOT NULL ORDER BY id DESC LIMIT 1")
                    .c_str());
  ask.bind(1, job).bind(2, to_utf8(destination));
  if (!ask.step()) return std::nullopt;
  return read_run(ask);
}

std::optional<RunEntry> Ledger::newest_point(const std::string& job, Instant now) {
  Statement ask(database_.get(),
                (std::string(run_columns) +
                 "WHERE job = ?1 AND sequence IS NOT NULL AND started <= ?2 ORDER BY id DESC LIMIT 1")
                    .c_str());
  ask.bind(1, job).bind(2, utc_text(now));
  if (!ask.step()) return std::nullopt;
  return read_run(ask);
}

bool Ledger::knows_set(const Id& set) {
  Statement ask(database_.get(),
                "SELECT 1 FROM run WHERE set_id = ?1 UNION SELECT 1 FROM point WHERE set_id = ?1 LIMIT 1");
  ask.bind(1, to_hex(set));
  return ask.step();
}

std::optional<CheckEntry> Ledger::find_check(Statement& ask, const Id& set) {
  ask.reset();
  ask.bind(1, to_hex(set));
  if (!ask.step()) return std::nullopt;
  CheckEntry check;
  check.when = parse_utc(ask.text(0)).value_or(Instant{});
  check.depth = parse_depth(ask.text(1)).value_or(Depth::quick);
  check.good = ask.integer(2) != 0;
  check.lost = LostPlaces::parse(ask.text(3));
  if (!ask.is_null(4)) check.affected = static_cast<std::uint64_t>(ask.integer(4));
  ask.reset();
  return check;
}

std::vector<SetChecks> Ledger::checks(const std::vector<Id>& sets) {
  auto statement = [&](const char* condition) {
    std::string sql = std::string("SELECT at, depth, good, lost, affected FROM set_check WHERE set_id = ? ") +
                      condition + " ORDER BY id DESC LIMIT 1";
    return std::make_unique<Statement>(database_.get(), sql.c_str());
  };
  if (!ask_last_) {
    ask_last_ = statement("");
    ask_deep_ = statement("AND affected IS NOT NULL");
  }
  std::vector<SetChecks> all;
  all.reserve(sets.size());
  // One transaction: each would cost as much as a question.
  Transaction reading(database_, "BEGIN");
  for (const Id& set : sets) {
    SetChecks& checks = all.emplace_back(find_check(*ask_last_, set));
    if (checks.last && checks.last->affected) {
      checks.deep = checks.last;
    } else if (checks.last) {
      checks.deep = find_check(*ask_deep_, set);
    }
  }
  reading.commit();
  return all;
}

}  // namespace kestrum
