// Bytes, text and paths: what everything else trusts.
#include <gtest/gtest.h>

#include <random>

#include "base/bounded_queue.hpp"
#include "base/bytes.hpp"
#include "base/clock.hpp"
#include "base/error.hpp"
#include "base/secret_memory.hpp"
#include "base/set_facts.hpp"
#include "base/text.hpp"
#include "base/tree_path.hpp"

namespace kestrum::test {
namespace {

TEST(Bytes, VarintsRoundTrip) {
  for (std::uint64_t value : {std::uint64_t{0}, std::uint64_t{127}, std::uint64_t{128}, std::uint64_t{16383},
                              std::uint64_t{1} << 35, UINT64_MAX}) {
    ByteWriter out;
    out.varint(value);
    ByteReader in(out.view());
    EXPECT_EQ(in.varint(), value);
    EXPECT_TRUE(in.at_end());
  }
  for (std::int64_t value : {std::int64_t{0}, std::int64_t{-1}, std::int64_t{63}, INT64_MIN, INT64_MAX}) {
    ByteWriter out;
    out.signed_varint(value);
    ByteReader in(out.view());
    EXPECT_EQ(in.signed_varint(), value);
  }
}

TEST(Bytes, MalformedNumbersAreDamage) {
  const std::vector<Bytes> bad{{},
                               {0x80},
                               {0x80, 0x00},
                               Bytes(11, 0xff),
                               {0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x02}};
  for (const Bytes& bytes : bad) {
    ByteReader in(bytes);
    EXPECT_THROW(in.varint(), Error) << to_hex(bytes);
  }
  Bytes length{0x05, 'a'};
  ByteReader in(length);
  EXPECT_THROW(in.bytes(100), Error);
  ByteReader limited(length);
  EXPECT_THROW(limited.bytes(4), Error);
}

TEST(Bytes, HexIsStrict) {
  EXPECT_EQ(from_hex("00ff10"), (Bytes{0, 255, 16}));
  for (const char* bad : {"0", "FF", "0g", "0x10", " 00"}) EXPECT_FALSE(from_hex(bad)) << bad;
  // All lengths around those that are taken at once, and every byte that is no digit, at every place.
  for (std::size_t size = 0; size <= 40; ++size) {
    Bytes bytes;
    for (std::size_t i = 0; i < size; ++i) bytes.push_back(static_cast<std::uint8_t>(i * 37 + size));
    std::string hex = to_hex(bytes);
    EXPECT_EQ(from_hex(hex), bytes) << size;
    Bytes larger(size + 1);
    EXPECT_FALSE(decode_hex(hex, larger)) << size;
    for (std::size_t at = 0; at < hex.size(); ++at) {
      std::string odd = hex;
      for (int c = 0; c < 256; ++c) {
        odd[at] = static_cast<char>(c);
        bool digit = (c >= '0' && c <= '9') || (c >= 'a' && c <= 'f');
        ASSERT_EQ(from_hex(odd).has_value(), digit) << size << " " << at << " " << c;
      }
    }
  }
}

TEST(Text, NamesAreShownWithoutDoubt) {
  struct Case {
    std::string bytes, shown;
  };
  const std::vector<Case> cases{{"plain.csv", "plain.csv"},          {"new\nline", "new\\nline"},
                                {"\xff\xfe", "\\xff\\xfe"},          {"caf\xc3\xa9", "caf\xc3\xa9"},
                                {"back\\slash", "back\\\\slash"},    {"\x1b[31m", "\\x1b[31m"},
                                {"\xe2\x80\xae", "\\xe2\\x80\\xae"}, {"\xc0\xaf", "\\xc0\\xaf"},
                                {"\xed\xa0\x80", "\\xed\\xa0\\x80"}, {"\x7f", "\\x7f"}};
  for (const Case& one : cases) EXPECT_EQ(printable(one.bytes), one.shown);
  EXPECT_TRUE(is_utf8("caf\xc3\xa9"));
  EXPECT_FALSE(is_utf8("caf\xc3"));
  EXPECT_EQ(to_utf8("a\xff"), "a\xef\xbf\xbd");
}

TEST(Text, Sizes) {
  EXPECT_EQ(size_text(0), "0 B");
  EXPECT_EQ(size_text(1023), "1023 B");
  EXPECT_EQ(size_text(1536), "1.5 KiB");
  EXPECT_EQ(size_text((1u << 20) - 1), "1.0 MiB");
  EXPECT_EQ(size_text(UINT64_MAX), "16384.0 PiB");
  EXPECT_EQ(parse_size("1.5 GiB"), std::uint64_t{3} << 29);
  EXPECT_EQ(parse_size("650MB"), 650000000u);
  for (const char* bad :
       {"", "5", "GiB", "1 gib", "-1 MiB", "1..2 MiB", ". MiB", "99999999999 TiB", "1 MiB x"})
    EXPECT_FALSE(parse_size(bad)) << bad;
}

TEST(Text, NearestWords) {
  std::vector<std::string> words{"compression", "kind", "renew", "volume-size"};
  EXPECT_EQ(nearest("compresion", words), "compression");
  EXPECT_EQ(nearest("knid", words), "kind");
  EXPECT_FALSE(nearest("something else", words));
  EXPECT_EQ(edit_distance("ab", "ba", 5), 1u);
  EXPECT_EQ(edit_distance("kitten", "sitting", 9), 3u);
}

TEST(Text, Durations) {
  using namespace std::chrono_literals;
  EXPECT_EQ(duration_text(400ms), "0.4 s");
  EXPECT_EQ(duration_text(59s), "59 s");
  EXPECT_EQ(duration_text(200s), "3 min 20 s");
  EXPECT_EQ(duration_text(3h + 5min), "3 h 5 min");
  EXPECT_EQ(duration_text(49h), "2 days 1 h");
}

TEST(TreePath, KeepsOrderComponentByComponent) {
  // Joined bytes would put "a-b" before "a/b"; a folder's content must follow it.
  const std::vector<std::string> in_order{"/", "/a", "/a/b", "/a/b/c", "/a-b", "/a.b", "/ab", "/b", "/\xff"};
  std::vector<TreePath> paths;
  for (const std::string& text : in_order) paths.push_back(*TreePath::parse(text));
  std::vector<TreePath> shuffled = paths;
  std::shuffle(shuffled.begin(), shuffled.end(), std::mt19937(4));
  std::sort(shuffled.begin(), shuffled.end());
  EXPECT_EQ(shuffled, paths);
}

TEST(TreePath, RefusesWhatIsNoPath) {
  EXPECT_FALSE(TreePath::parse("/a/../b"));
  EXPECT_FALSE(TreePath::parse(std::string("/a\0b", 4)));
  EXPECT_EQ(TreePath::parse("//a/./b/")->joined(), "a/b");
  for (const std::string& bad : {std::string("a//b"), std::string("/a"), std::string("a/"), std::string("."),
                                 std::string("a/../b"), std::string("a\0", 2), std::string(70000, 'x')}) {
    EXPECT_FALSE(TreePath::from_joined(bad)) << bad.substr(0, 20);
  }
  EXPECT_TRUE(TreePath::from_joined("")->is_root());
}

TEST(TreePath, KnowsWhatLiesWithin) {
  TreePath folder = *TreePath::parse("/srv/ring");
  EXPECT_TRUE(TreePath::parse("/srv/ring/a")->is_within(folder));
  EXPECT_TRUE(folder.is_within(folder));
  EXPECT_TRUE(folder.is_within(TreePath()));
  EXPECT_FALSE(TreePath::parse("/srv/ringing")->is_within(folder));
  EXPECT_EQ(TreePath::parse("/srv/ring/a/b")->below(folder).joined(), "a/b");
  EXPECT_EQ(folder.parent().joined(), "srv");
  EXPECT_EQ(folder.depth(), 2u);
}

TEST(Clock, MomentsAsText) {
  for (const char* text :
       {"2027-03-01T20:30:00Z", "1969-12-31T23:59:59.5Z", "2199-01-01T00:00:00.000000001Z"}) {
    std::optional<Instant> when = parse_utc(text);
    ASSERT_TRUE(when) << text;
    EXPECT_EQ(*parse_utc(utc_text(*when)), *when);
  }
  EXPECT_EQ(parse_utc("1969-12-31T23:59:59.5Z")->seconds, -1);
  for (const char* bad : {"2027-03-01", "2027-02-30T00:00:00Z", "2027-03-01T24:00:00Z", "2027-03-01T20:30:00",
                          "2027-03-01T20:30:00.Z", "2027-03-01 20:30:00Z", "aaaa-bb-ccTdd:ee:ffZ"}) {
    EXPECT_FALSE(parse_utc(bad)) << bad;
  }
}

TEST(Clock, ASimulatedOneStandsStillWhereItIsToldTo) {
  const Instant start = *parse_utc("2027-03-01T20:00:00Z"), end = *parse_utc("2027-03-01T21:00:00Z");
  const auto now = std::chrono::steady_clock::now();
  const SimulatedClock there(start, 1e6, now - std::chrono::hours(1), end);
  EXPECT_EQ(there.now(), end);
  EXPECT_EQ(there.rate(), 0);
  const SimulatedClock on_its_way(start, 0.001, now, end);
  EXPECT_LT(on_its_way.now(), end);
  EXPECT_EQ(on_its_way.rate(), 0.001);
  for (const SimulatedClock& clock : {there, on_its_way, SimulatedClock(start, 60, now)}) {
    const std::optional<SimulatedClock> again = parse_simulated_clock(clock.text());
    ASSERT_TRUE(again) << clock.text();
    EXPECT_EQ(again->text(), clock.text());
    EXPECT_EQ(again->rate(), clock.rate());
  }
  for (const char* wrong : {"", "2027-03-01T20:00:00Z", "2027-03-01T20:00:00Z,-1", "2027-03-01T20:00:00Z,1,x",
                            "2027-03-01T20:00:00Z,1,2,tomorrow", "2027-03-01T20:00:00Z,1,2,",
                            "2027-03-01T20:00:00Z,1,2,2027-03-01T21:00:00Z,3"})
    EXPECT_FALSE(parse_simulated_clock(wrong)) << wrong;
}

TEST(LostPlaces, RoundTripAsText) {
  LostPlaces lost;
  lost.slots = {0, 7};
  lost.frames[1] = {96, 4096};
  LostPlaces back = LostPlaces::parse(lost.text());
  EXPECT_TRUE(back.covers(0, 5));
  EXPECT_TRUE(back.covers(1, 96));
  EXPECT_FALSE(back.covers(1, 97));
  EXPECT_FALSE(back.covers(2, 96));
  EXPECT_TRUE(LostPlaces::parse("nonsense x:y").empty());
}

TEST(SecretMemory, IsWipedWhenItGoesAndUsedAgain) {
  const std::size_t before = secret_memory_in_use();
  const std::uint8_t* where = nullptr;
  {
    SecretMemory one(as_bytes("tern in the fog"));
    where = one.view().data();
    SecretMemory copy = one, moved = std::move(one);
    EXPECT_TRUE(one.empty());  // NOLINT: what was moved from is empty
    EXPECT_EQ(copy, moved);
    EXPECT_NE(copy.view().data(), moved.view().data());
    EXPECT_EQ(secret_memory_in_use(), before + 64);
  }
  EXPECT_EQ(secret_memory_in_use(), before);
  // The block stays mapped.
  EXPECT_EQ(std::string_view(reinterpret_cast<const char*>(where), 15),
            std::string_view("\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0", 15));
  EXPECT_EQ(SecretMemory(40).view().data(), where);
  // More than one block, and more than any block has.
  std::vector<SecretMemory> many;
  for (int i = 0; i < 2000; ++i) many.emplace_back(as_bytes(std::to_string(i)));
  for (int i = 0; i < 2000; ++i)
    EXPECT_EQ(as_text(many[static_cast<std::size_t>(i)].view()), std::to_string(i));
  EXPECT_EQ(SecretMemory(100'000).view().size(), 100'000u);
}

TEST(BoundedQueue, ClosingLetsTheReaderDrain) {
  BoundedQueue<int> queue(2);
  EXPECT_TRUE(queue.push(1));
  EXPECT_TRUE(queue.push(2));
  queue.close();
  EXPECT_FALSE(queue.push(3));
  EXPECT_EQ(queue.pop(), 1);
  EXPECT_EQ(queue.pop(), 2);
  EXPECT_FALSE(queue.pop());
}

TEST(Text, NumbersInRanges) {
  EXPECT_EQ(sequences_text({}), "");
  EXPECT_EQ(sequences_text({4}), "4");
  EXPECT_EQ(sequences_text({2, 1}), "1, 2");
  EXPECT_EQ(sequences_text({9, 8, 7, 5, 1, 2, 3}), "1 to 3, 5, 7 to 9");
}

}  // namespace
}  // namespace kestrum::test
