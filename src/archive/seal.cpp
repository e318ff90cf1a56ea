#include "archive/seal.hpp"

#include <algorithm>

#include "archive/seal_json.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

constexpr const char* fold_feature = "fold-1";
constexpr const char* needs_feature = "needs-1";
constexpr const char* carry_feature = "carry-1";

AuthFunction auth_of(const SecretKey& master, const Id& set) {
  return [&master, set](const std::string& section, ByteView before) {
    Bytes context = to_bytes(as_bytes("seal-" + section));
    context.insert(context.end(), set.begin(), set.end());
    return keyed_digest(derive(master, "auth", context), before);
  };
}

Json files_json(const std::vector<SealedFile>& files) {
  Json list = Json::array();
  for (const SealedFile& file : files) {
    list.push_back({{"slot", file.slot},
                    {"name", file.name},
                    {"set", to_hex(file.set)},
                    {"number", file.number},
                    {"size", file.size},
                    {"digest", to_hex(file.digest)}});
  }
  return list;
}

// `slot`: what that member is called.
SealedFile file_from(const JsonObject& object, const char* slot) {
  SealedFile file;
  file.slot = static_cast<std::uint32_t>(object.number(slot, UINT32_MAX));
  file.name = object.text("name");
  if (!valid_component(file.name)) object.broken();
  file.set = object.hex_array<16>("set");
  file.number = static_cast<std::uint32_t>(object.number("number", UINT32_MAX));
  file.size = object.number("size");
  file.digest = object.hex_array<32>("digest");
  return file;
}

std::vector<SealedFile> files_from(const simdjson::dom::array& list, const std::string& what) {
  std::vector<SealedFile> files;
  files.reserve(list.size());
  for (JsonElement item : list) {
    JsonObject object(item, what);
    files.push_back(file_from(object, "slot"));
    object.only({"slot", "name", "set", "number", "size", "digest"});
  }
  return files;
}

Json replaced_json(const Seal& seal) {
  Json list = files_json(seal.replaced);
  for (Json& one : list) {
    if (one.at("slot") == 0 && seal.fence) one["fence"] = {seal.fence->offset, seal.fence->size};
  }
  return list;
}

// Each supersedes the file of its slot, or adds one.
void take_replaced(const simdjson::dom::array& list, const std::string& what, Seal& seal) {
  std::vector<SealedFile>& files = seal.core.files;
  for (JsonElement item : list) {
    JsonObject object(item, what);
    SealedFile file = file_from(object, "slot");
    if (object.has("fence")) {
      const simdjson::dom::array place = object.array("fence");
      std::uint64_t offset = 0, size = 0;
      if (place.size() != 2 || place.at(0).get(offset) != simdjson::SUCCESS ||
          place.at(1).get(size) != simdjson::SUCCESS || size > UINT32_MAX)
        object.broken();
      seal.fence = FramePlace{offset, static_cast<std::uint32_t>(size)};
    }
    const auto same = std::find_if(files.begin(), files.end(),
                                   [&](const SealedFile& one) { return one.slot == file.slot; });
    if (same != files.end()) {
      seal.core.facts.totals.stored_bytes += file.size - same->size;
      *same = file;
    } else {
      seal.core.facts.totals.stored_bytes += file.size;
      files.push_back(file);
    }
    seal.replaced.push_back(std::move(file));
  }
}

Json parity_json(const std::vector<SealedParity>& all) {
  Json list = Json::array();
  for (const SealedParity& parity : all) {
    const SealedFile& file = parity.file;
    list.push_back({{"for", file.slot},
                    {"name", file.name},
                    {"set", to_hex(file.set)},
                    {"number", file.number},
                    {"size", file.size},
                    {"digest", to_hex(file.digest)},
                    {"k", parity.shape.k},
                    {"m", parity.shape.m},
                    {"groups", parity.shape.groups}});
  }
  return list;
}

std::vector<SealedParity> parity_from(const simdjson::dom::array& list, const std::string& what) {
  std::vector<SealedParity> all;
  all.reserve(list.size());
  for (JsonElement item : list) {
    JsonObject object(item, what);
    SealedParity parity;
    parity.file = file_from(object, "for");
    parity.shape.k = static_cast<std::uint32_t>(object.number("k", UINT32_MAX));
    parity.shape.m = static_cast<std::uint32_t>(object.number("m", UINT32_MAX));
    parity.shape.groups = static_cast<std::uint32_t>(object.number("groups", UINT32_MAX));
    all.push_back(std::move(parity));
  }
  return all;
}

std::uint64_t parity_bytes(const std::vector<SealedParity>& all) {
  std::uint64_t bytes = 0;
  for (const SealedParity& parity : all) bytes += parity.file.size;
  return bytes;
}

struct TotalField {
  const char* name;
  std::uint64_t SetTotals::*member;
};
constexpr TotalField total_fields[] = {
    {"files", &SetTotals::files},           {"folders", &SetTotals::folders},
    {"others", &SetTotals::others},         {"bytes", &SetTotals::bytes},
    {"new-files", &SetTotals::new_files},   {"changed-files", &SetTotals::changed_files},
    {"gone-files", &SetTotals::gone_files}, {"read-bytes", &SetTotals::read_bytes},
    {"new-bytes", &SetTotals::new_bytes},   {"stored-bytes", &SetTotals::stored_bytes},
};

Json base_json(const std::optional<Sequence>& base) {
  return base ? Json(*base) : Json(nullptr);
}

Json core_json(const SealCore& core) {
  const SetFacts& facts = core.facts;
  Json needs = Json::array();
  for (const SetNeed& need : facts.needs)
    needs.push_back({{"sequence", need.sequence}, {"set", to_hex(need.set)}});
  Json totals;
  for (const TotalField& field : total_fields) totals[field.name] = facts.totals.*field.member;
  Json features = Json::array();
  if (facts.folded_from) features.push_back(fold_feature);
  if (facts.needs_follow) features.push_back(needs_feature);
  if (facts.carries) features.push_back(carry_feature);
  Json json{{"format", 1},
            {"requires", features},
            {"job", to_hex(core.job)},
            {"chain", to_hex(facts.chain)},
            {"set", to_hex(facts.set)},
            {"sequence", facts.sequence},
            {"covers", {facts.covers_from(), facts.sequence}},
            {"kind", kind_name(facts.kind)},
            {"base", base_json(facts.base)},
            {"needs", needs},
            {"machine", core.machine},
            {"name", core.job_name},
            {"started", utc_text(facts.started)},
            {"ended", utc_text(facts.ended)},
            {"offset", facts.offset_seconds},
            {"totals", totals},
            {"problems", facts.problems},
            {"files", files_json(core.files)},
            {"previous", core.previous ? Json(to_hex(*core.previous)) : Json(nullptr)},
            {"naming", box_json(core.naming)},
            {"root", box_json(core.root)}};
  if (facts.needs_follow) json["without"] = facts.without;
  return json;
}

void check_features(const JsonObject& object, SetFacts& facts) {
  for (JsonElement item : object.array("requires")) {
    std::string_view feature;
    if (item.get(feature) != simdjson::SUCCESS) object.broken();
    if (feature == fold_feature) continue;
    if (feature == needs_feature) {
      facts.needs_follow = true;
      continue;
    }
    if (feature == carry_feature) {
      facts.carries = true;
      continue;
    }
    throw Error(
        ErrorKind::failed,
        object.what() + " needs the feature '" + printable(feature) + "', which this version does not know",
        "use a newer version of kestrum for this destination");
  }
}

// "covers": the first and the last sequence.
void read_covers(const JsonObject& object, SetFacts& facts) {
  simdjson::dom::array covers = object.array("covers");
  std::uint64_t first = 0, last = 0;
  bool pair = covers.size() == 2 && covers.at(0).get(first) == simdjson::SUCCESS &&
              covers.at(1).get(last) == simdjson::SUCCESS && last == facts.sequence && first >= 1 &&
              first <= last;
  if (!pair) object.broken();
  if (first != last) facts.folded_from = static_cast<Sequence>(first);
}

void read_needs(const JsonObject& object, SetFacts& facts) {
  for (JsonElement item : object.array("needs")) {
    JsonObject need(item, object.what());
    facts.needs.push_back(
        {static_cast<Sequence>(need.number("sequence", INT32_MAX)), need.hex_array<16>("set")});
  }
}

void read_without(const JsonObject& object, SetFacts& facts) {
  if (!facts.needs_follow) return;
  for (JsonElement item : object.array("without")) {
    std::uint64_t sequence = 0;
    if (item.get(sequence) != simdjson::SUCCESS || sequence > INT32_MAX) object.broken();
    facts.without.push_back(static_cast<Sequence>(sequence));
  }
}

void read_place(const JsonObject& object, SetFacts& facts) {
  facts.chain = object.hex_array<16>("chain");
  facts.set = object.hex_array<16>("set");
  facts.sequence = static_cast<Sequence>(object.number("sequence", INT32_MAX));
  if (facts.sequence == 0) object.broken();
  std::optional<Kind> kind = parse_kind(object.view("kind"));
  if (!kind) object.broken();
  facts.kind = *kind;
  if (!object.is_null("base")) facts.base = static_cast<Sequence>(object.number("base", INT32_MAX));
}

void read_times_and_totals(const JsonObject& object, SetFacts& facts) {
  facts.started = object.instant("started");
  facts.ended = object.instant("ended");
  std::int64_t offset = object.integer("offset");
  if (offset < INT32_MIN || offset > INT32_MAX) object.broken();
  facts.offset_seconds = static_cast<std::int32_t>(offset);
  JsonObject totals(object.at("totals"), object.what());
  for (const TotalField& field : total_fields) facts.totals.*field.member = totals.number(field.name);
  facts.problems = object.number("problems");
}

// In the order in which core_json writes.
SealCore core_from(JsonElement json, const std::string& what) {
  JsonObject object(json, what);
  SealCore core;
  check_format(object);
  check_features(object, core.facts);
  core.job = object.hex_array<16>("job");
  read_place(object, core.facts);
  read_covers(object, core.facts);
  read_needs(object, core.facts);
  core.machine = object.text("machine");
  core.job_name = object.text("name");
  read_times_and_totals(object, core.facts);
  core.files = files_from(object.array("files"), what);
  if (!object.is_null("previous")) core.previous = object.hex_array<32>("previous");
  core.naming = box_from(object.at("naming"), what);
  core.root = box_from(object.at("root"), what);
  read_without(object, core.facts);
  object.only({"format",   "requires", "job",      "chain",  "set",     "sequence", "covers", "kind",
               "base",     "needs",    "machine",  "name",   "started", "ended",    "offset", "totals",
               "problems", "files",    "previous", "naming", "root",    "without"});
  return core;
}

SaltedBox box_up(ByteView plain, const SecretKey& master, std::string_view purpose, const Id& bound) {
  SaltedBox box;
  fill_random(box.salt);
  Bytes context = to_bytes(bound);
  context.insert(context.end(), box.salt.begin(), box.salt.end());
  Aead(derive(master, purpose, context)).seal(0, bound, plain, box.box);
  return box;
}

Bytes unbox(const SaltedBox& box, const SecretKey& master, std::string_view purpose, const Id& bound) {
  Bytes context = to_bytes(bound);
  context.insert(context.end(), box.salt.begin(), box.salt.end());
  std::optional<Bytes> plain = Aead(derive(master, purpose, context)).open(0, bound, box.box);
  if (!plain) throw damage("a part of a seal does not authenticate");
  return std::move(*plain);
}

constexpr const char* standing_member = "standing";

Json standing_json(const Standing& standing) {
  Json json{{"is", standing.kept() ? "kept" : "given-up"}, {"since", utc_text(standing.since)}};
  if (!standing.because.empty()) json["because"] = standing.because;
  return json;
}

// What a newer version may say there keeps the point.
Standing standing_from(const JsonObject& envelope, const std::string& what) {
  Standing standing;
  if (!envelope.has(standing_member)) return standing;
  JsonObject object(envelope.at(standing_member), what);
  standing.is = object.view("is") == "given-up" ? Standing::Is::given_up : Standing::Is::kept;
  standing.since = object.instant("since");
  if (object.has("because")) standing.because = object.text("because");
  return standing;
}

// A word that this version does not know is a doubt of a newer one.
GuardMark guard_from(const JsonObject& envelope) {
  const std::string_view word = envelope.view("guard");
  for (GuardMark mark : {GuardMark::none, GuardMark::trusted, GuardMark::rejected}) {
    if (word == guard_name(mark)) return mark;
  }
  return GuardMark::suspect;
}

}  // namespace

static std::string next_generation(const Seal& seal, const SecretKey& master,
                                   const std::function<void(Json& envelope)>& change) {
  Json envelope = Json::parse(seal.checked.text(1));
  envelope["generation"] = seal.generation + 1;
  change(envelope);
  return write_checked_json({{"core", std::string(seal.checked.text(0))}, {"envelope", envelope.dump()}},
                            auth_of(master, seal.core.facts.set));
}

std::string restate_seal(const Seal& seal, const Standing& standing, const SecretKey& master) {
  return next_generation(seal, master, [&](Json& envelope) {
    envelope.erase(standing_member);
    if (standing.is != Standing::Is::by_rules) envelope[standing_member] = standing_json(standing);
  });
}

std::string regard_seal(const Seal& seal, GuardMark mark, const SecretKey& master) {
  return next_generation(seal, master, [&](Json& envelope) { envelope["guard"] = guard_name(mark); });
}

std::string mended_seal(const Seal& mended, const SecretKey& master) {
  return next_generation(mended, master, [&](Json& envelope) {
    envelope["parity"] = parity_json(mended.parity);
    envelope["replaced"] = replaced_json(mended);
  });
}

std::string rekey_seal(const Seal& seal, const std::vector<KeyEntry>& keys, const SecretKey& master) {
  return next_generation(seal, master, [&](Json& envelope) {
    // Those that stay, and those of types that this version does not know, stay byte for byte.
    Json there = Json::array(), news = keys_json(keys);
    const auto id_of = [](const Json& entry) { return entry.value("id", std::string()); };
    for (const Json& entry : envelope.at("keys")) {
      const bool known = std::any_of(seal.keys.begin(), seal.keys.end(),
                                     [&](const KeyEntry& key) { return to_hex(key.id) == id_of(entry); });
      const auto same =
          std::find_if(news.begin(), news.end(), [&](const Json& key) { return id_of(key) == id_of(entry); });
      if (!known || same != news.end()) there.push_back(entry);
      if (same != news.end()) news.erase(same);
    }
    there.insert(there.end(), news.begin(), news.end());
    envelope["keys"] = std::move(there);
  });
}

std::string encode_seal(const Seal& seal, const SecretKey& master) {
  Json envelope{{"generation", seal.generation},
                {"keys", keys_json(seal.keys)},
                {"parity", parity_json(seal.parity)},
                {"guard", guard_name(seal.core.facts.guard)},
                {"replaced", Json::array()}};
  const Standing& standing = seal.core.facts.standing;
  if (standing.is != Standing::Is::by_rules) envelope[standing_member] = standing_json(standing);
  SealCore core = seal.core;
  // The core never changes; parity may be added later.
  core.facts.totals.stored_bytes -= parity_bytes(seal.parity);
  return write_checked_json({{"core", core_json(core).dump()}, {"envelope", envelope.dump()}},
                            auth_of(master, seal.core.facts.set));
}

Seal decode_seal(Bytes file, const std::string& what) {
  Seal seal;
  seal.checked = read_checked_json(std::move(file), {"core", "envelope"}, true, what);
  seal.core = core_from(parse_json(seal.checked.text(0), what), what);
  seal.core_digest = seal.checked.sections[0].digest;
  JsonObject envelope(parse_json(seal.checked.text(1), what), what);
  seal.generation = envelope.number("generation");
  seal.keys = keys_from(envelope.at("keys"), what);
  seal.parity = parity_from(envelope.array("parity"), what);
  seal.core.facts.totals.stored_bytes += parity_bytes(seal.parity);
  take_replaced(envelope.array("replaced"), what, seal);
  seal.core.facts.standing = standing_from(envelope, what);
  seal.core.facts.guard = guard_from(envelope);
  return seal;
}

bool seal_is_authentic(const Seal& seal, const SecretKey& master) {
  return seal.checked.authentic(auth_of(master, seal.core.facts.set));
}

Bytes encode_root(const Root& root) {
  ByteWriter out;
  out.u8(1);
  out.u8(static_cast<std::uint8_t>(root.catalog.level));
  write_ref(out, root.catalog.page);
  out.varint(root.fence.offset);
  out.varint(root.fence.size);
  write_ref(out, root.record);
  write_ref(out, root.job_file);
  write_ref(out, root.problems);
  return out.take();
}

Root decode_root(ByteView bytes) {
  ByteReader in(bytes);
  if (in.u8() != 1) throw damage("a seal's root has an unknown version");
  Root root;
  root.catalog.level = in.u8();
  root.catalog.page = read_ref(in);
  root.fence.offset = in.varint();
  std::uint64_t fence_size = in.varint();
  if (fence_size > limits::fence) throw damage("the fence table is larger than it can be");
  root.fence.size = static_cast<std::uint32_t>(fence_size);
  root.record = read_ref(in);
  root.job_file = read_ref(in);
  root.problems = read_ref(in);
  in.expect_end();
  return root;
}

SaltedBox box_root(const Root& root, const SecretKey& master, const Id& set) {
  return box_up(encode_root(root), master, "root", set);
}

Root unbox_root(const Seal& seal, const SecretKey& master) {
  return decode_root(unbox(seal.core.root, master, "root", seal.core.facts.set));
}

SaltedBox box_naming(const SecretKey& naming, const SecretKey& master, const Id& chain) {
  return box_up(naming.view(), master, "naming", chain);
}

SecretKey unbox_naming(const SaltedBox& box, const SecretKey& master, const Id& chain) {
  Bytes bytes = unbox(box, master, "naming", chain);
  SecretKey naming(bytes);
  wipe(bytes.data(), bytes.size());
  return naming;
}

std::string encode_open_mark(const OpenMark& mark) {
  Json json{{"format", 1},
            {"requires", Json::array()},
            {"job", to_hex(mark.job)},
            {"chain", to_hex(mark.chain)},
            {"set", to_hex(mark.set)},
            {"sequence", mark.sequence},
            {"kind", kind_name(mark.kind)},
            {"base", base_json(mark.base)},
            {"started", utc_text(mark.started)},
            {"keys", keys_json(mark.keys)},
            {"naming", box_json(mark.naming)}};
  return write_checked_json({{"open", json.dump()}}, {});
}

OpenMark decode_open_mark(Bytes file, const std::string& what) {
  const CheckedJson checked = read_checked_json(std::move(file), {"open"}, false, what);
  const JsonObject object(parse_json(checked.text(0), what), what);
  check_format(object);
  SetFacts facts;
  check_features(object, facts);
  read_place(object, facts);
  OpenMark mark;
  mark.job = object.hex_array<16>("job");
  mark.chain = facts.chain;
  mark.set = facts.set;
  mark.sequence = facts.sequence;
  mark.kind = facts.kind;
  mark.base = facts.base;
  mark.started = object.instant("started");
  mark.keys = keys_from(object.at("keys"), what);
  mark.naming = box_from(object.at("naming"), what);
  return mark;
}

}  // namespace kestrum
