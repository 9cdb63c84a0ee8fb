#include "server/json_answer.h"

#include <gtest/gtest.h>

namespace dingle {
namespace {

TEST(AnswerList, SaysNothingWhileAllIsThere) {
  AnswerList list;
  ASSERT_TRUE(list.room(10));
  list.add("Tern");
  const Json answer = list.with_cut({{"ships", list.take()}});
  EXPECT_EQ(dump(answer), R"({"ships":["Tern"]})");
}

TEST(AnswerList, SaysThatThereWasMore) {
  AnswerList list;
  EXPECT_TRUE(list.room(AnswerList::kMostBytes - 1));
  EXPECT_TRUE(list.room(1)) << "as many as may be";
  EXPECT_FALSE(list.room(1));
  EXPECT_FALSE(list.room(0)) << "what is behind a gap would hide it";
  EXPECT_EQ(list.with_cut(Json::object())["cut_at_bytes"], AnswerList::kMostBytes);
}

TEST(AnswerList, OneThatIsTooLargeAloneIsLeftOut) {
  AnswerList list;
  EXPECT_FALSE(list.room(SIZE_MAX));
  EXPECT_TRUE(list.with_cut(Json::object()).contains("cut_at_bytes"));
}

}  // namespace
}  // namespace dingle
