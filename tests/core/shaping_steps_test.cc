// Steps that take away and shorten: omit, keep, cut, retype.
#include "tests/core/step_fixture.h"

namespace dingle {
namespace {

constexpr const char* kShip = R"({"ship":"Tern","load.kg":5,"load.name":"salt","at":"quay 4"})";

std::unique_ptr<Step> with_fields(const char* kind, const std::vector<std::string>& fields,
                                  std::vector<std::pair<const char*, const char*>> more = {}) {
  Node options = map({{"fields", list(fields)}});
  for (const auto& [key, value] : more) options.entries.push_back({key, {}, scalar(value, false)});
  return step(kind, options);
}

TEST(Omit, TakesAwayByNameAndByPattern) {
  EXPECT_EQ(run({kShip}, step("json", Node{}), with_fields("omit", {"load.*", "nobody"})).fields(0),
            "ship=Tern at=quay 4");
  EXPECT_EQ(run({kShip}, step("json", Node{}), with_fields("omit", {"*"})).fields(0), "");
  EXPECT_EQ(run({"no json"}, step("json", Node{}), with_fields("omit", {"*"})).batch.events[0].field_count,
            1);  // why
  EXPECT_EQ(run({kShip}, with_fields("omit", {"body"})).batch.events[0].body, "");
}

TEST(Omit, StrictCountsWhatIsNotThere) {
  const Trial r = run({kShip, R"({"at":"quay 5"})"}, step("json", Node{}),
                      with_fields("omit", {"ship", "load.*", "at"}, {{"strict", "true"}}));
  EXPECT_EQ(r.fields(0), "");
  EXPECT_EQ(r.fields(1), "dingle.unmatched=omit: there is no field ship");
  EXPECT_EQ(r.tallies[1].failed, 1u);
  EXPECT_EQ(r.tallies[1].out, 1u);
}

TEST(Keep, TakesAllOthersAway) {
  const Trial r = run({kShip, "no json"}, step("json", Node{}), with_fields("keep", {"ship", "*.kg"}));
  EXPECT_EQ(r.fields(0), "ship=Tern load.kg=5");
  EXPECT_EQ(r.batch.events[0].body, kShip);
  EXPECT_EQ(r.batch.events[1].failed_step, 1);
  EXPECT_NE(r.fields(1).find("dingle.unmatched="), std::string::npos);
  const Trial bare =
      run({kShip, "no json"}, step("json", Node{}), with_fields("keep", {"ship"}, {{"body", "false"}}));
  EXPECT_EQ(bare.batch.events[0].body, "");
  EXPECT_EQ(bare.batch.events[1].body, "no json");
}

struct CutCase {
  const char *from, *up_to, *text, *result;  // result: nullptr if it is missed
  bool last = false, with_literals = false;
};
class Cuts : public testing::TestWithParam<CutCase> {};

TEST_P(Cuts, Shortens) {
  const CutCase& c = GetParam();
  Node options = map({});
  if (*c.from) options.entries.push_back({"from", {}, scalar(c.from)});
  if (*c.up_to) options.entries.push_back({"up_to", {}, scalar(c.up_to)});
  if (c.last) options.entries.push_back({"occurrence", {}, scalar("last")});
  if (c.with_literals) options.entries.push_back({"with_literals", {}, scalar("true", false)});
  const Trial r = run({c.text}, step("cut", options));
  EXPECT_EQ(r.batch.events[0].body, c.result ? c.result : c.text);
  EXPECT_EQ(r.tallies[0].missed, c.result ? 0u : 1u);
  EXPECT_EQ(r.tallies[0].out, 1u);
}

INSTANTIATE_TEST_SUITE_P(
    All, Cuts,
    testing::Values(CutCase{"b=", "", "a=1 b=2 c", "2 c"}, CutCase{"", " at ", "Tern at 4 at 5", "Tern"},
                    CutCase{"", " at ", "Tern at 4 at 5", "Tern at 4", true},
                    CutCase{"<", ">", "x <y> <z>", "y"}, CutCase{"<", ">", "x <y> <z>", "z", true},
                    CutCase{"<", ">", "x <y> <z>", "<y>", false, true},
                    CutCase{"<", "", "x <y> <z>", "<z>", true, true}, CutCase{"<", ">", "> x <y", nullptr},
                    CutCase{"b=", "", "a", nullptr}, CutCase{"", "b", "a", nullptr},
                    CutCase{"a", "", "a", ""}, CutCase{"", "a", "a", ""}, CutCase{"aa", "a", "aaa", ""},
                    CutCase{"", "x", "", nullptr}));

TEST(Cut, OfAFieldAndOfWhatIsNoText) {
  const Trial r = run({kShip}, step("json", Node{}),
                      step("cut", map({{"field", scalar("at")}, {"from", scalar("quay ")}})),
                      step("cut", map({{"field", scalar("load.kg")}, {"from", scalar("x")}})),
                      step("cut", map({{"field", scalar("nobody")}, {"from", scalar("x")}})));
  EXPECT_EQ(r.fields(0), "ship=Tern load.kg=5 load.name=salt at=4");
  EXPECT_EQ(r.tallies[2].missed + r.tallies[3].missed, 2u);
}

struct Retyped {
  const char *value, *type, *result;  // as JSON; nullptr: it cannot be
};
class Retypes : public testing::TestWithParam<Retyped> {};

TEST_P(Retypes, GiveAnotherTypeOrLeaveItAsItIs) {
  const Retyped& c = GetParam();
  const Trial r =
      run({"{\"a\":" + std::string(c.value) + "}"}, step("json", Node{}),
          step("retype", map({{"fields", map({{"a", scalar(c.type)}, {"nobody", scalar("int")}})}})));
  std::string json;
  r.batch.events[0].find(field_id("a"))->value.append_json(json);
  EXPECT_EQ(json, c.result ? c.result : c.value);
  EXPECT_EQ(r.tallies[1].failed, c.result ? 0u : 1u);
  if (c.result == nullptr) {
    EXPECT_NE(r.fields(0).find("retype: the field a is no " + std::string(c.type)), std::string::npos)
        << r.fields(0);
  }
}

INSTANTIATE_TEST_SUITE_P(
    All, Retypes,
    testing::Values(Retyped{"\"42\"", "int", "42"}, Retyped{"\"42 \"", "int", nullptr},
                    Retyped{"\"\"", "int", nullptr}, Retyped{"42", "text", "\"42\""},
                    Retyped{"42", "decimal", "42"}, Retyped{"4.0", "int", "4"},
                    Retyped{"4.5", "int", nullptr}, Retyped{"1e+300", "int", nullptr},
                    Retyped{"true", "text", "\"true\""}, Retyped{"\"true\"", "boolean", "true"},
                    Retyped{"\"maybe\"", "boolean", nullptr}, Retyped{"\"192.0.2.7\"", "ip", "\"192.0.2.7\""},
                    Retyped{"\"quay\"", "ip", nullptr},
                    Retyped{"\"2026-11-23 10:00:00\"", "timestamp", "\"2026-11-23T10:00:00Z\""},
                    Retyped{"\"soon\"", "timestamp", nullptr}, Retyped{"\"x\"", "text", "\"x\""}));

TEST(Shaping, WrongOptionsAreTold) {
  static const PatternLibrary library;
  const auto problem = [&](const char* kind, const Node& options) {
    Findings findings("");
    const StepKind* k = step_kind(kind);
    Options o = Options::read(k->spec.options, options, kind, findings);
    if (o.sound()) k->make({o, library, findings});
    return findings.all().empty() ? "" : findings.all()[0].message + "; " + findings.all()[0].hint;
  };
  EXPECT_EQ(problem("retype", map({{"fields", map({{"a", scalar("itn")}})}})),
            "there is no type `itn`; did you mean `int`?");
  EXPECT_NE(
      problem("retype", map({{"fields", map({{"timestamp", scalar("int")}})}})).find("belongs to the event"),
      std::string::npos);
  EXPECT_NE(problem("cut", map({})).find("neither `from` nor `up_to`"), std::string::npos);
  EXPECT_NE(
      problem("cut", map({{"field", scalar("timestamp")}, {"from", scalar("x")}})).find("no step writes it"),
      std::string::npos);
  EXPECT_NE(problem("keep", map({{"fields", list({"a b"})}})).find("`a b` is not a field's name"),
            std::string::npos);
  EXPECT_NE(problem("omit", map({})).find("fields"), std::string::npos);
}

}  // namespace
}  // namespace dingle
