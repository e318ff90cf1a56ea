#include "support/fuzz_targets.hpp"

#include <algorithm>
#include <cstring>

#include "archive/catalog_page.hpp"
#include "archive/journal.hpp"
#include "archive/key_entry.hpp"
#include "archive/recovery_key.hpp"
#include "archive/seal.hpp"
#include "archive/set_reader.hpp"
#include "base/error.hpp"
#include "calendar/phrase.hpp"
#include "job/job_file.hpp"
#include "job/settings.hpp"
#include "support/memory_store.hpp"

namespace kestrum::test {
namespace {

// The same each time, so that an input means the same each time.
SecretKey fixed_key(std::uint8_t with) {
  const Bytes bytes(SecretKey::size, with);
  return SecretKey(ByteView(bytes));
}

FileHeader fixed_header(FileKind kind) {
  FileHeader header{kind, 1, {}, {}, {}};
  header.job.fill(1);
  header.set.fill(2);
  header.salt.fill(3);
  return header;
}

// As it lies in a file, and the same contents under a good tag: what lies behind the tag must be reached.
void frame(ByteView input) {
  const FrameCipher cipher(fixed_key(7), fixed_header(FileKind::volume));
  Decompressor decompressor;
  if (input.empty()) return;
  if (input[0] % 2 == 0) {
    cipher.decrypt(input.subspan(1), decompressor);
    return;
  }
  if (input.size() < 3) return;
  PackedFrame packed;
  packed.kind = static_cast<FrameKind>(1 + input[1] % 7);
  packed.codec = static_cast<Codec>(input[2] % 2);
  packed.box.assign(input.begin() + 3, input.end());
  if (packed.box.size() < 8) return;
  const Bytes sealed = cipher.encrypt(packed, input[1]);
  cipher.unpack(sealed);
  const FrameContent content = cipher.decrypt(sealed, decompressor);
  check_names(content, Naming(fixed_key(9)));
}

void file_header(ByteView input) {
  FileHeader::decode(input, "fuzzed");
}

// A fence and one page of an index, authentic, of any content.
void index(ByteView input) {
  if (input.size() < 2) return;
  const std::size_t fence_size = std::min<std::size_t>(input.size() - 2, input[0] | input[1] << 8);
  Bytes fence = to_bytes(input.subspan(2, fence_size));
  const ByteView page = input.subspan(2 + fence_size);
  MemoryStore store;
  store.make_folder("set");
  auto found = std::make_shared<FoundSet>();
  found->folder.path = found->folder.name = "set";
  const SecretKey master = fixed_key(7);
  Seal seal;
  SetFacts& facts = seal.core.facts;
  facts.sequence = 1;
  FileHeader header = fixed_header(FileKind::index);
  header.number = 0;
  seal.core.job = header.job;
  facts.set = header.set;
  FrameFileWriter file(store, "set/index.kidx", master, header);
  Compressor compressor;
  const FramePlace at = file.append(pack_frame({FrameKind::index_page, {}, to_bytes(page)}, 1, compressor));
  // The first post leads to the page: where that lies is not for the input to guess.
  constexpr std::size_t place_in_fence = 4 + 32;
  if (fence.size() >= place_in_fence + 12) {
    ByteWriter place;
    place.u64(at.offset);
    place.u32(at.size);
    std::copy(place.view().begin(), place.view().end(), fence.begin() + place_in_fence);
  }
  Root root;
  root.fence = file.append(pack_frame({FrameKind::fence, {}, std::move(fence)}, 1, compressor));
  SealedFile sealed = file.finish();
  sealed.name = "index.kidx";
  seal.core.files = {sealed};
  seal.core.root = box_root(root, master, facts.set);
  seal.keys = {make_clear_entry(master)};
  const std::string text = encode_seal(seal, master);
  found->seal = decode_seal(to_bytes(as_bytes(text)), "fuzzed");
  SetReader reader(store, found, master);
  ChunkName name;
  name.bytes.fill(5);
  try {
    reader.find(name);
  } catch (const Error&) {
    // The rest is looked at all the same.
  }
  reader.each_record([](const IndexRecord&) {});
}

void catalog(ByteView input) {
  has_path(input, [](const std::string& joined) { return joined.size() > 5000; });
  try {
    PageScan scan(to_bytes(input));
    while (scan.next()) scan.entry();
  } catch (const Error&) {
    // The other reader says the same.
  }
  decode_page(input);
}

// Two lines, the sections of a seal, under good checks; or a whole file as it is.
void seal(ByteView input) {
  if (input.empty()) return;
  if (input[0] % 2 == 0) {
    decode_seal(to_bytes(input.subspan(1)), "fuzzed");
    return;
  }
  const std::string text(as_text(input.subspan(1)));
  const std::size_t end = text.find('\n');
  const AuthFunction auth = [](const std::string&, ByteView) { return Digest{}; };
  const std::string core = text.substr(0, end),
                    envelope = end == std::string::npos ? "" : text.substr(end + 1);
  const std::string file = write_checked_json({{"core", core}, {"envelope", envelope}}, auth);
  const Seal read = decode_seal(to_bytes(as_bytes(file)), "fuzzed");
  unbox_root(read, fixed_key(7));
}

void open_mark(ByteView input) {
  const std::string file = write_checked_json({{"open", std::string(as_text(input))}}, {});
  decode_open_mark(to_bytes(as_bytes(file)), "fuzzed");
}

void journal(ByteView input) {
  decode_journal(input);
}

void root(ByteView input) {
  decode_root(input);
}

// As a seal's envelope has them: read, then tried.
void key_entries(ByteView input) {
  Seal begun;
  begun.core.facts.sequence = 1;
  begun.core.root = box_root({}, fixed_key(7), begun.core.facts.set);
  const std::string whole = encode_seal(begun, fixed_key(7));
  const CheckedJson checked =
      read_checked_json(to_bytes(as_bytes(whole)), {"core", "envelope"}, true, "begun");
  const AuthFunction auth = [](const std::string&, ByteView) { return Digest{}; };
  const std::string envelope = R"({"generation":1,"keys":)" + std::string(as_text(input)) +
                               R"(,"parity":[],"guard":"none","replaced":[]})";
  const std::string file =
      write_checked_json({{"core", std::string(checked.text(0))}, {"envelope", envelope}}, auth);
  const Seal read = decode_seal(to_bytes(as_bytes(file)), "fuzzed");
  // Deriving is slow on purpose: what a cheap entry opens is enough here.
  const bool cheap = std::all_of(read.keys.begin(), read.keys.end(), [](const KeyEntry& entry) {
    return entry.type != KeyEntryType::passphrase || entry.cost.memory_kib * entry.cost.passes <= 64;
  });
  if (cheap) KeyRing([] { return SecretText("tern"); }).unlock(read.keys, {});
}

void recovery_text(ByteView input) {
  const std::string text(as_text(input));
  std::optional<Error> refused;
  int taken = 0;
  for (auto read : {+[](const std::string& some) { parse_recovery_groups(some); },
                    +[](const std::string& some) { parse_recovery_secret(some, "fuzzed"); },
                    +[](const std::string& some) { parse_recovery_public(some, "fuzzed"); }}) {
    try {
      read(text);
      ++taken;
    } catch (const Error& error) {
      refused = error;
    }
  }
  if (taken == 0) throw *refused;
}

void job_file(ByteView input) {
  parse_job("fuzzed", "fuzzed.toml", std::string(as_text(input)));
}

void settings(ByteView input) {
  parse_settings("settings.toml", std::string(as_text(input)));
}

// What was understood is understood again from its own words.
void phrase(ByteView input) {
  const Phrase understood = parse_phrase(as_text(input));
  const Phrase again = parse_phrase(understood.text());
  if (again.text() != understood.text()) std::abort();
  next_time(understood, {1800000000, 0});
}

constexpr FuzzTarget all_targets[] = {
    {"frame", frame},      {"file-header", file_header}, {"index", index},     {"catalog", catalog},
    {"seal", seal},        {"open-mark", open_mark},     {"journal", journal}, {"root", root},
    {"keys", key_entries}, {"recovery", recovery_text},  {"job", job_file},    {"settings", settings},
    {"phrase", phrase},
};

Bytes bytes_of(const std::string& text) {
  return to_bytes(as_bytes(text));
}

Entry some_entry(const std::string& path) {
  Entry entry;
  entry.path = TreePath::parse(path).value();
  entry.size = 3;
  entry.content = {{ItemKind::data, 3, {}, 1, 0}};
  entry.attributes = {{"user.note", "of the spring"}};
  return entry;
}

Bytes some_journal() {
  JournalDraft draft;
  draft.add(some_entry("/srv/ringing.csv"));
  draft.add(some_entry("/srv/traps.csv"));
  return draft.take({}, 1, {}, as_bytes("{}"));
}

}  // namespace

std::span<const FuzzTarget> fuzz_targets() {
  return all_targets;
}

const FuzzTarget* fuzz_target(const std::string& name) {
  for (const FuzzTarget& target : all_targets) {
    if (target.name == name) return &target;
  }
  return nullptr;
}

std::vector<Bytes> fuzz_seeds(const std::string& name) {
  const SecretKey master = fixed_key(7);
  if (name == "frame") {
    Compressor compressor;
    const PackedFrame packed = pack_frame({FrameKind::content, {{{}, 5}}, bytes_of("terns")}, 3, compressor);
    Bytes forged{1, 0, 0};
    forged.insert(forged.end(), packed.box.begin(), packed.box.end());
    Bytes raw{0};
    const Bytes sealed = FrameCipher(master, fixed_header(FileKind::volume)).encrypt(packed, 0);
    raw.insert(raw.end(), sealed.begin(), sealed.end());
    return {forged, raw};
  }
  if (name == "file-header") return {fixed_header(FileKind::volume).encode()};
  if (name == "index") {
    ByteWriter fence, page;
    fence.u32(1);
    fence.raw(Bytes(32));
    fence.u64(FileHeader::size);
    fence.u32(100);
    write_record(page, {{}, 1, {96, 100}, 0, 3});
    ByteWriter both;
    both.u16(static_cast<std::uint16_t>(fence.size()));
    both.raw(fence.view());
    both.raw(page.view());
    return {both.take()};
  }
  if (name == "catalog") {
    ByteWriter page;
    page.u8(1);
    page.u8(0);
    page.varint(1);
    write_entry(page, some_entry("/srv/ringing.csv"), "");
    return {page.take()};
  }
  if (name == "seal" || name == "open-mark" || name == "keys") {
    OpenMark mark;
    mark.sequence = 1;
    mark.keys = {make_clear_entry(master)};
    mark.naming = box_naming(master, master, {});
    const std::string open = encode_open_mark(mark);
    const CheckedJson checked = read_checked_json(bytes_of(open), {"open"}, false, "seed");
    if (name == "open-mark") return {bytes_of(std::string(checked.text(0)))};
    const KeyEntry entry = make_passphrase_entry(master, {}, std::string_view("tern"), {8, 1});
    Seal seal;
    seal.core.facts.sequence = 1;
    seal.core.root = box_root({}, master, seal.core.facts.set);
    seal.core.naming = mark.naming;
    seal.keys = {entry};
    const std::string file = encode_seal(seal, master);
    const CheckedJson parts = read_checked_json(bytes_of(file), {"core", "envelope"}, true, "seed");
    const std::string envelope(parts.text(1));
    if (name == "keys") {
      const std::size_t from = envelope.find("\"keys\":") + 7;
      return {bytes_of(envelope.substr(from, envelope.find("],", from) + 1 - from))};
    }
    return {bytes_of("\1" + std::string(parts.text(0)) + "\n" + envelope),
            bytes_of(std::string(1, '\0') + file)};
  }
  if (name == "journal") return {some_journal()};
  if (name == "root") return {encode_root({})};
  if (name == "recovery") {
    const RecoveryKey key = make_recovery_key();
    return {bytes_of(recovery_secret_text(key)), bytes_of(recovery_public_text(key.open))};
  }
  if (name == "job")
    return {bytes_of(
        "[what]\nfolders = [\"/srv\"]\nskip = [\"*.tmp\"]\n[where]\ndestinations = [\"label:tern-1\"]\n"
        "[when]\nruns = [\"every day at 20:30\"]\n[keep]\npoints = \"30 points\"\n"
        "[protect]\npassphrase = \"file:/srv/pass\"\n")};
  if (name == "settings") return {bytes_of("[runs]\nside-by-side = 2\n")};
  if (name == "phrase")
    return {bytes_of("every day at 20:30"), bytes_of("last Friday of the month at 12:00")};
  return {};
}

}  // namespace kestrum::test
