#include <gtest/gtest.h>

#include "store/handover_lines.h"
#include "store/store.h"

namespace dingle {
namespace {

const Sender kSender{9, 1, 2, 3};
std::string line(const std::string& more) {
  return R"({"index":"gate-1","epoch":1,"number":2,"ordinal":3,"stream":4,"position":5,"time":-6,"observed":7,"body":"b")" +
         more + "}";
}

TEST(HandoverLines, TypesThatJsonCannotTellAreNamed) {
  HandoverLines lines;
  ASSERT_TRUE(lines.add(
      line(
          R"(,"fields":{"a":1,"d":3,"t":8,"p":"192.0.2.1","l":[1,2],"m":{"x":null},"s":"1","b":true,"n":null},"types":{"d":"decimal","t":"timestamp","p":"ip","l":"list","m":"map"})"),
      kSender));
  const StoredEvent& e = lines.by_index().at("gate-1").at(0);
  EXPECT_EQ(e.order, (EventOrder{9, 1, 2, 3}));
  EXPECT_EQ(e.timestamp, -6);
  const Value expected[] = {Value::integer(1),      Value::decimal(3),    Value::timestamp(8),
                            Value::ip("192.0.2.1"), Value::list("[1,2]"), Value::map(R"({"x":null})"),
                            Value::text("1"),       Value::boolean(true)};
  ASSERT_EQ(e.fields.size(), std::size(expected));
  for (std::size_t i = 0; i < e.fields.size(); ++i) EXPECT_EQ(e.fields[i].value, expected[i]) << i;
}

TEST(HandoverLines, NumbersAreExactAndNamesOfTheEventAreNotTaken) {
  HandoverLines lines;
  ASSERT_TRUE(lines.add(
      line(
          R"(,"fields":{"d":123456789012345680000,"e":0.33333333333333333333,"m":{"x":1e400},"body":"forged","timestamp":5,"dingle.pipeline":"gate","dingle.id":"x","ship":"Tern","ship":"Auk"},"types":{"d":"decimal","m":"map"})"),
      kSender));
  const StoredEvent& e = lines.by_index().at("gate-1").at(0);
  std::string all;
  for (const Field& f : e.fields) all += std::string(field_name(f.name)) + "=" + f.value.to_string() + " ";
  EXPECT_EQ(
      all,
      "d=123456789012345683968 e=0.3333333333333333 m={\"x\":\"1e400\"} line.body=forged line.timestamp=5 "
      "dingle.pipeline=gate line.dingle.id=x ship=Tern ");
  EXPECT_EQ(e.fields[0].value.kind(), Kind::decimal);
  EXPECT_EQ(e.body, "b");
}

TEST(HandoverLines, TheResourceComesApart) {
  HandoverLines lines;
  ASSERT_TRUE(lines.add(
      line(
          R"(,"fields":{"ship":"Tern","at":5},"more":{"ship":"Auk","at":"192.0.2.1","dingle.source":"gate","body":"x"},"more_types":{"at":"ip"})"),
      kSender));
  const StoredEvent& e = lines.by_index().at("gate-1").at(0);
  std::string all;
  for (const auto fields : {e.fields, e.more})
    for (const Field& f : fields) all += std::string(field_name(f.name)) + "=" + f.value.to_string() + " ";
  EXPECT_EQ(all, "ship=Tern at=5 ship=Auk at=192.0.2.1 dingle.source=gate line.body=x ");
  EXPECT_EQ(e.more[1].value.kind(), Kind::ip);
}

TEST(HandoverLines, DeepNestingIsRefused) {
  HandoverLines lines;
  for (const char* in : {",\"fields\":{\"a\":", ",\"other\":"})
    EXPECT_FALSE(lines.add(line(in + std::string(100'000, '[') + std::string(100'000, ']') + "}"), kSender));
}

TEST(HandoverLines, WhatIsNoEventIsRefused) {
  HandoverLines lines;
  for (const std::string& wrong :
       {std::string(""), std::string("{"), std::string("[]"), std::string("{\"index\":\"x\"}"),
        std::string("\xff\xfe"), line(",\"a\":"), line("").substr(0, 60)})
    EXPECT_FALSE(lines.add(wrong, kSender)) << wrong;
  EXPECT_TRUE(lines.by_index().empty());
}

TEST(HandoverLines, NamesOfIndexesAreMadeValid) {
  HandoverLines lines;
  std::string wild = line("");
  wild.replace(wild.find("gate-1"), 6, "../../etc");
  ASSERT_TRUE(lines.add(wild, kSender));
  EXPECT_TRUE(lines.by_index().count("_._.._etc") || is_index_name(lines.by_index().begin()->first));
}

}  // namespace
}  // namespace dingle
