// What comes by HTTP: bodies, and idempotency keys.
#include <gtest/gtest.h>
#include <zstd.h>

#include "agent/destinations/compression.h"
#include "agent/sources/request_body.h"
#include "agent/sources/request_keys.h"
#include "net/coding.h"
#include "spool/memory.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;
using Texts = std::vector<std::string>;

struct Items {
  Texts texts;
  std::string problem;
  std::size_t offset = 0;
};
Items items(const std::string& body, std::size_t longest = 1000) {
  LineBuffer buffer(body.size() + 1);
  std::copy(body.begin(), body.end(), buffer.bytes.get());
  buffer.finish(body.size());
  auto found = items_of({buffer.bytes.get(), buffer.size}, longest);
  if (!found) return {{}, found.problem().message, found.problem().offset};
  Items all;
  for (const SourceLine& e : found->events) {
    all.texts.emplace_back(e.text);
    EXPECT_EQ(body.substr(e.position, e.text.size()), e.text);
  }
  EXPECT_EQ(found->lines, found->events.size());
  return all;
}

TEST(RequestBody, ItemsOfAnArrayAsTheyStandThere) {
  EXPECT_EQ(items("[]").texts, Texts());
  EXPECT_EQ(items(" [ ] ").texts, Texts());
  EXPECT_EQ(items("[1, \"a,]\\\"\\\\\", null ]\n").texts, (Texts{"1", "\"a,]\\\"\\\\\"", "null"}));
  EXPECT_EQ(items("[{\"a\":[1,{\"b\":2}],\"c\":\"}\"},[ 3,4 ],1.10]").texts,
            (Texts{"{\"a\":[1,{\"b\":2}],\"c\":\"}\"}", "[ 3,4 ]", "1.10"}));
}
TEST(RequestBody, AnythingElseIsOne) {
  EXPECT_EQ(items(" {\"a\": [1]}\n").texts, (Texts{"{\"a\": [1]}"}));
  EXPECT_EQ(items("\"a\"").texts, (Texts{"\"a\""}));
  EXPECT_EQ(items("[123456789012345678901234567890]").texts, (Texts{"123456789012345678901234567890"}));
}
TEST(RequestBody, SaysWhereItIsNotJson) {
  EXPECT_EQ(items("{\"a\":1,}").offset, 7u);
  EXPECT_NE(items("{\"a\":1,}").problem.find("expected string literal"), std::string::npos);
  EXPECT_EQ(items(std::string("[]\0\x03\"", 5)).offset, 2u);
  for (const char* bad :
       {"", " ", "[1", "[1]]", "{\"a\":1}{\"a\":2}", "[\"\xff\"]", "nothing", "[1,]", "[,1]"})
    EXPECT_NE(items(bad).problem.find("not JSON"), std::string::npos) << bad;
}
TEST(RequestBody, LongItemsAreCut) { EXPECT_EQ(items("[\"abcdefghi\",1]", 5).texts, (Texts{"\"abcd", "1"})); }
// Few bytes, many events.
TEST(RequestBody, ManyEventsAreRefusedBeforeTheyCostMemory) {
  std::string lines, items = "[0";
  for (int i = 0; i < 1000; ++i) lines += "\n", items += ",1";
  EXPECT_FALSE(lines_of(lines, 100, 999));
  EXPECT_TRUE(lines_of(lines, 100, 1000));
  LineBuffer buffer(items.size() + 1);
  items += "]";
  std::copy(items.begin(), items.end(), buffer.bytes.get());
  buffer.finish(items.size());
  const std::string_view body(buffer.bytes.get(), buffer.size);
  EXPECT_EQ(items_of(body, 100, 10)->events.size(), 11u) << "more than that is not counted";
  EXPECT_EQ(items_of(body, 100)->events.size(), 1001u);
}
TEST(RequestBody, Lines) {
  const BodyEvents found = *lines_of("a\r\n\nbcdef", 3);
  ASSERT_EQ(found.events.size(), 2u);
  EXPECT_EQ(found.events[0].text, "a");
  EXPECT_EQ(found.events[1].text, "bcd");
  EXPECT_EQ(found.events[1].position, 4u);
  EXPECT_EQ(found.lines, 3u);
  EXPECT_EQ(found.empty, 1u);
  EXPECT_EQ(found.cut_bytes, 2u);
  EXPECT_EQ(lines_of("", 3)->lines, 0u);
}

TEST(DecompressZstd, FramesWithAndWithoutTheirSize) {
  const std::string text(100'000, 'x'), frame = compress(Compression::zstd, text);
  EXPECT_EQ(*decompress_zstd(frame, 100'000), text);
  EXPECT_EQ(*decompress_zstd(frame + frame, 200'000), text + text);
  EXPECT_EQ(*decompress_zstd("", 10), "");
  EXPECT_EQ(decompress_zstd(frame, 99'999).problem().length, 0u) << "too large";
  EXPECT_NE(decompress_zstd("nothing", 10).problem().length, 0u);
  EXPECT_NE(decompress_zstd(frame.substr(0, frame.size() - 1), 100'000).problem().length, 0u);
}

class RequestKeysTest : public testing::Test {
 protected:
  std::unique_ptr<Disk> disk = make_memory_disk();
  std::unique_ptr<Spool> spool = std::move(*Spool::open(*disk, {.folder = "/spool"}));
  using Standing = RequestKeys::Standing;
  static constexpr std::int64_t kHour = 3'600'000'000'000;

  void take(RequestKeys& keys, const std::string& key, std::uint64_t body, std::int64_t now) {
    ASSERT_EQ(keys.begin(key, body, now).standing, Standing::fresh);
    const auto changes = keys.changes(key, body, 5, now);
    ASSERT_EQ(spool->note({changes, {}}), 0);
    keys.end(key, &changes);
  }
};

TEST_F(RequestKeysTest, KnownOnceTaken) {
  RequestKeys keys(*spool, "s", 10, 1h);
  EXPECT_EQ(keys.begin("a", 1, 0).standing, Standing::fresh);
  EXPECT_EQ(keys.begin("a", 1, 0).standing, Standing::under_way);
  keys.end("a", nullptr);  // it was not taken
  take(keys, "a", 1, 0);
  EXPECT_EQ(keys.begin("a", 1, 1).standing, Standing::known);
  EXPECT_EQ(keys.begin("a", 1, 1).events, 5u);
  EXPECT_EQ(keys.begin("a", 2, 1).standing, Standing::other_body);
  EXPECT_EQ(keys.begin("b", 1, 1).standing, Standing::fresh);
}
TEST_F(RequestKeysTest, AreReadBackForTheirSource) {
  {
    RequestKeys keys(*spool, "s", 10, 1h);
    take(keys, "a", 1, 0);
  }
  EXPECT_EQ(RequestKeys(*spool, "s", 10, 1h).begin("a", 1, 1).standing, Standing::known);
  EXPECT_EQ(RequestKeys(*spool, "other", 10, 1h).begin("a", 1, 1).standing, Standing::fresh);
}
TEST_F(RequestKeysTest, TheOldestAreForgotten) {
  RequestKeys keys(*spool, "s", 3, 1h);
  for (int i = 0; i < 9; ++i) take(keys, std::to_string(i), 1, i);
  EXPECT_EQ(keys.size(), 3u);
  EXPECT_EQ(spool->state_with_prefix("request/s/").size(), 3u);
  EXPECT_EQ(keys.begin("6", 1, 9).standing, Standing::known);
  EXPECT_EQ(keys.begin("5", 1, 9).standing, Standing::fresh);
}
TEST_F(RequestKeysTest, AKeyGetsTooOld) {
  RequestKeys keys(*spool, "s", 10, 1h);
  take(keys, "a", 1, 0);
  take(keys, "b", 1, kHour / 2);
  take(keys, "a", 2, kHour);  // anew
  EXPECT_EQ(keys.size(), 2u);
  EXPECT_EQ(spool->state_with_prefix("request/s/").size(), 2u);
  EXPECT_EQ(keys.begin("a", 2, kHour + 1).standing, Standing::known);
}

}  // namespace
}  // namespace dingle
