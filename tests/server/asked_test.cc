#include "server/asked.h"

#include <gtest/gtest.h>

#include "core/time/instant.h"
#include "server/calls/call.h"

namespace dingle {
namespace {

HttpRequest request_of(const char* method, const char* path, const std::string& query,
                       const std::string& body = "") {
  HttpRequest r;
  r.method = method, r.path = path;
  r.parameters = *parameters_of(query);
  r.body = body;
  return r;
}

// What is answered to one that is wrong.
Json refusal(const HttpRequest& request) {
  const Call* call = call_of(request);
  if (call == nullptr) return "no call";
  try {
    read_asked(*call, request);
  } catch (const Refused& refused) {
    EXPECT_EQ(refused.answer.status, 400);
    return parse_json(refused.answer.body);
  }
  return "fine";
}

TEST(Asked, WhatIsMissingIsAsItsTableSays) {
  const HttpRequest request = request_of("GET", "/v1/events", "");
  const Asked asked = read_asked(*call_of(request), request);
  EXPECT_EQ(asked.number("limit"), 50u);
  EXPECT_EQ(asked.duration("within"), 60 * kSecond);
  EXPECT_FALSE(asked.given("where"));
  EXPECT_FALSE(asked.flag("types"));
  EXPECT_EQ(asked.moment("from", 7), 7);
}

TEST(Asked, WhatRepeatsIsAList) {
  const HttpRequest request =
      request_of("GET", "/v1/timeline", "by=ship&by=berth&index=a&measure=count&bucket=5m");
  const Asked asked = read_asked(*call_of(request), request);
  EXPECT_EQ(asked.texts("by"), (std::vector<std::string>{"ship", "berth"}));
  EXPECT_EQ(asked.duration("bucket"), 300 * kSecond);
}

TEST(Asked, NumbersOf64BitsAndPartsOfPaths) {
  const HttpRequest request =
      request_of("POST", "/v1/handover", "spool=18446744073709551615&epoch=1&nonce=2&sender=3");
  EXPECT_EQ(read_asked(*call_of(request), request).number("spool"), UINT64_MAX);
  const HttpRequest job = request_of("GET", "/v1/jobs/17", "");
  EXPECT_EQ(read_asked(*call_of(job), job).part, "17");
}

struct Wrong {
  const char *path, *query, *parameter, *says, *hint;
};

void expect_refusal(const Wrong& w, const HttpRequest& request) {
  const Json told = refusal(request);
  ASSERT_TRUE(told.is_object()) << told;
  EXPECT_EQ(told.value("parameter", ""), w.parameter) << told;
  EXPECT_EQ(told.value("detail", ""), w.says);
  EXPECT_NE(told.value("hint", "").find(w.hint), std::string::npos) << told;
}

class AskedWrongly : public testing::TestWithParam<Wrong> {};
TEST_P(AskedWrongly, IsRefusedWithItsPlace) {
  expect_refusal(GetParam(), request_of("GET", GetParam().path, GetParam().query));
}
INSTANTIATE_TEST_SUITE_P(
    Parameters, AskedWrongly,
    testing::Values(
        Wrong{"/v1/events", "limti=5", "limti", "unknown parameter `limti`", "did you mean `limit`?"},
        Wrong{"/v1/status", "x=5", "x", "unknown parameter `x`", "this call takes none"},
        Wrong{"/v1/events", "limit=x", "limit", "`limit` takes a whole number, found `x`", "At most so many"},
        Wrong{"/v1/events", "limit=-1", "limit", "`limit` is at least 0, found `-1`", ""},
        Wrong{"/v1/events", "limit=10001", "limit", "`limit` is at most 10000, found `10001`", "by `after`"},
        Wrong{"/v1/events", "limit=5&limit=6", "limit", "`limit` is given twice", ""},
        Wrong{"/v1/events", "where=", "where", "`where` is empty", "leave it out"},
        Wrong{"/v1/events", "destination=", "destination", "`destination` is empty", "leave it out"},
        Wrong{"/v1/events", "index=a&index=", "index", "`index` is empty", ""},
        Wrong{"/v1/events", "types=maybe", "types", "`types` takes true or false, found `maybe`", ""},
        Wrong{"/v1/events", "from=soon", "from", "`from` takes a time, found `soon`", "how long ago"},
        Wrong{"/v1/events", "within=5", "within", "`within` takes a duration such as 200ms or 6h, found `5`",
              "units"},
        Wrong{"/v1/events", "within=11m", "within", "`within` is at most 10m, found `11m`", "How long"},
        Wrong{"/v1/events", "within=0s", "within", "`within` is at least 1ns, found `0s`", ""},
        Wrong{"/v1/values", "", "field", "`field` is missing", "whose values"},
        Wrong{"/v1/events", "limit=x&types=y", "limit", "`limit` takes a whole number, found `x`", ""}));

class SentWrongly : public testing::TestWithParam<Wrong> {};
TEST_P(SentWrongly, IsRefusedWithItsPlace) {
  expect_refusal(GetParam(), request_of("POST", GetParam().path, "", GetParam().query));
}
INSTANTIATE_TEST_SUITE_P(
    Bodies, SentWrongly,
    testing::Values(
        Wrong{"/v1/return", "[]", "", "the body must be a JSON object", "`version`"},
        Wrong{"/v1/return", "", "", "the body must be a JSON object", ""},
        Wrong{"/v1/return", "{}", "version", "`version` is missing", "Its number"},
        Wrong{"/v1/return", R"({"version":"3"})", "version", "`version` takes a whole number", ""},
        Wrong{"/v1/return", R"({"version":1e3})", "version", "`version` takes a whole number", ""},
        Wrong{"/v1/return", R"({"version":3,"hwo":"x"})", "hwo", "unknown member `hwo`",
              "did you mean `who`?"},
        Wrong{"/v1/return", R"({"version":3,"who":""})", "who", "`who` is empty", "leave it out"},
        Wrong{"/v1/return", R"({"version":3,"who":null})", "who", "`who` takes text", ""},
        Wrong{"/v1/letters/resend", R"({"ids":[1,"2"]})", "ids", "`ids` takes a list of whole numbers", ""},
        Wrong{"/v1/letters/resend", R"({"ids":7})", "ids", "`ids` takes a list of whole numbers", ""},
        Wrong{"/v1/letters/resend", R"({"all":"yes"})", "all", "`all` takes true or false", ""},
        Wrong{"/v1/try", R"({"templates":[]})", "templates",
              "`templates` takes a list of texts, found a list", ""},
        Wrong{"/v1/try", R"({"templates":["{a:int}"],"lines":[5]})", "lines", "`lines` takes a list of texts",
              ""},
        Wrong{"/v1/jobs/3", R"({"act":"stpo"})", "act", "`stpo` is no choice for `act`",
              "did you mean `stop`?"}));

TEST(Asked, ABodyOfTooManyTexts) {
  Json lines = Json::array();
  for (int i = 0; i < 100'001; ++i) lines.push_back("x");
  const Json told = refusal(request_of("POST", "/v1/draft", "", dump(Json{{"lines", lines}})));
  EXPECT_EQ(told["detail"], "`lines` takes a list of texts, 100000 at most");
}

TEST(Asked, ACallThatTakesABodyTakesNoParameters) {
  EXPECT_EQ(refusal(request_of("POST", "/v1/letters/discard", "all=true", R"({"ids":[1]})"))["parameter"],
            "all");
}

TEST(Asked, ABodyThatNeedNotBeMayBeMissing) {
  EXPECT_EQ(refusal(request_of("POST", "/v1/reload", "")), "fine");
}

}  // namespace
}  // namespace dingle
