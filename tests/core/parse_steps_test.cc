// parse and json: what takes lines apart.
#include "tests/core/step_fixture.h"

namespace dingle {
namespace {

TEST(Parse, FirstTemplateThatMatchesWins) {
  Trial r = run({"a 1", "b x"}, step("parse", map({{"templates", list({"a {n:int}", "{:word} {t:word}"})}})));
  EXPECT_EQ(r.fields(0), "n=1");
  EXPECT_EQ(r.fields(1), "t=x");
  EXPECT_EQ(r.batch.events[1].template_number, 2);
  EXPECT_EQ(r.tallies[0].matched, (std::vector<std::uint64_t>{1, 1}));
}

TEST(Parse, UnmatchedLinesAreKeptMarkedAndCounted) {
  Trial r = run({"a b"}, step("parse", map({{"templates", list({"x {n:int}", "a {n:int}"})}})));
  EXPECT_EQ(r.batch.events[0].body, "a b");
  EXPECT_EQ(r.fields(0), "dingle.unmatched=expected a whole number dingle.unmatched.column=3");
  EXPECT_EQ(r.tallies[0].failed, 1u);
  EXPECT_EQ(r.tallies[0].out, 0u);
}

TEST(Parse, OfTemplatesThatComeEquallyFarTheFirstSaysWhy) {
  Trial r = run({"a b"}, step("parse", map({{"templates", list({"a {n:int}", "a {t:mac}"})}})));
  EXPECT_NE(r.fields(0).find("a whole number"), std::string::npos) << r.fields(0);
}

TEST(Parse, ABodyThatATemplateNamesReplacesTheLine) {
  Trial r = run({"7 tern"}, step("parse", map({{"templates", list({"{n:int} {body}"})}})));
  EXPECT_EQ(r.batch.events[0].body, "tern");
  EXPECT_EQ(r.fields(0), "n=7");
}

TEST(Parse, ASecondOneReplacesFieldsOfTheFirst) {
  Trial r = run({"7 8"}, step("parse", map({{"templates", list({"{n:int} {rest}"})}})),
                step("parse", map({{"field", scalar("rest")}, {"templates", list({"{n:int}"})}})));
  EXPECT_EQ(r.fields(0), "n=8 rest=8");
}

TEST(Parse, WhatIsNotThereIsNotTakenApart) {
  Trial r = run({"x"}, step("parse", map({{"field", scalar("none")}, {"templates", list({"{n:int}"})}})));
  EXPECT_EQ(r.tallies[0].out, 1u);
  EXPECT_EQ(r.tallies[0].failed + r.tallies[0].matched[0], 0u);
  EXPECT_EQ(r.fields(0), "");
}

TEST(Parse, ANumberIsTakenApartAsItsText) {
  Trial r = run({"1234"}, step("parse", map({{"templates", list({"{n:int}"})}})),
                step("parse", map({{"field", scalar("n")}, {"templates", list({R"({a:/\d\d/}{b:int})"})}})));
  EXPECT_EQ(r.fields(0), "n=1234 a=12 b=34");
}

TEST(Parse, TakesApartAnotherField) {
  Trial r = run({"k=7;8"}, step("parse", map({{"templates", list({"k={pair}"})}})),
                step("parse", map({{"templates", list({"{x:int};{y:int}"})}, {"field", scalar("pair")}})));
  EXPECT_EQ(r.fields(0), "pair=7;8 x=7 y=8");
}

TEST(Json, FlattensAndKeepsLists) {
  Trial r = run({R"({"a":1,"b":{"c":"x","d":null},"e":[1,2],"f":1.5,"g":true})"}, step("json", Node{}));
  EXPECT_EQ(r.fields(0), "a=1 b.c=x e=[1,2] f=1.5 g=true");
}

TEST(Json, InAFieldWithAPrefix) {
  Trial r = run(
      {R"({"payload":"{\"cabin\":\"B12\"}"})"}, step("json", Node{}),
      step("json",
           map({{"field", scalar("payload")}, {"prefix", scalar("p.")}, {"keep", scalar("false", false)}})));
  EXPECT_EQ(r.fields(0), "p.cabin=B12");
}

TEST(Json, WhatIsNoObjectIsMarked) {
  Trial r = run({"[1]", "{\"a\":", "plain"}, step("json", Node{}));
  EXPECT_EQ(r.tallies[0].failed, 3u);
  EXPECT_NE(r.fields(0).find("no object"), std::string::npos);
}

TEST(Json, DeepObjectsStayMaps) {
  Trial r = run({R"({"a":{"b":{"c":1}}})"}, step("json", map({{"depth", scalar("2", false)}})));
  EXPECT_EQ(r.fields(0), R"(a.b={"c":1})");
}

TEST(Json, ALineSaysNothingAboutWhereItCameFrom) {
  const Field resource{field_id("network.peer.address"), Value::ip("192.0.2.1")};
  Trial r =
      run({R"({"network.peer.address":"203.0.113.9","body":"forged","ship":"Tern"})"}, step("json", Node{}));
  r.batch.events[0].field_count = 0;
  const std::span<const Field> resources[] = {{&resource, 1}};
  r.batch.resources = resources;
  StepTally tally;
  step("json", Node{})->run(r.batch, tally);
  EXPECT_EQ(r.fields(0), "line.network.peer.address=203.0.113.9 line.body=forged ship=Tern");
  EXPECT_EQ(r.batch.get(r.batch.events[0], field_id("network.peer.address")).as_text(), "192.0.2.1");
}

TEST(Json, ValuesKeptAsTextsAreCounted) {
  Trial r =
      run({R"({"a":1e400,"b":"\ud800","c":1})", R"(n {"a":18446744073709551615})"},
          step("json", map({{"where", scalar("body not like 'n%'")}})),
          step("parse", map({{"templates", list({"n {:json}"})}, {"where", scalar("body like 'n%'")}})));
  EXPECT_EQ(r.fields(0), "a=1e400 b=\uFFFD c=1");
  EXPECT_EQ(r.tallies[0].values_as_text, 2u);
  EXPECT_EQ(r.fields(1), "a=18446744073709551615");
  EXPECT_EQ(r.tallies[1].values_as_text, 1u);
}

TEST(Json, DropsItsFieldUnlessItIsTheBody) {
  Trial r = run({R"({"p":"{\"a\":1}","q":"{}"})"}, step("json", map({{"keep", scalar("false", false)}})),
                step("json", map({{"field", scalar("p")}, {"keep", scalar("false", false)}})),
                step("json", map({{"field", scalar("none")}})));
  EXPECT_EQ(r.fields(0), "q={} a=1");
  EXPECT_NE(r.batch.events[0].body, "");
  EXPECT_EQ(r.tallies[2].out, 1u);
}

TEST(Parse, AnOptionalPartThatIsNotThereLeavesNoField) {
  Trial r = run({"gate 7 open", "gate 7"},
                step("parse", map({{"templates", list({"gate {n:int}{[} {state:word}{]}"})}})));
  EXPECT_EQ(r.fields(0), "n=7 state=open");
  EXPECT_EQ(r.batch.events[1].field_count, 1);
}

TEST(ParseCases, AFieldChoosesTheTemplates) {
  auto parse = [&] {
    return step(
        "parse",
        map({{"field", scalar("rest")},
             {"by", scalar("layout")},
             {"cases", map({{"1", list({"ship {ship}", "{x:int}"})}, {"2", list({"crane {crane:int}"})}})},
             {"templates", list({"{other}!"})}}));
  };
  Trial r = run({"1 ship Tern", "2 crane 4", "1 7", "2 ship Tern", "3 what!"},
                step("parse", map({{"templates", list({"{layout:int} {rest}"})}})), parse());
  EXPECT_EQ(r.fields(0), "layout=1 rest=ship Tern ship=Tern");
  EXPECT_EQ(r.fields(1), "layout=2 rest=crane 4 crane=4");
  EXPECT_EQ(r.fields(2), "layout=1 rest=7 x=7");
  EXPECT_NE(r.fields(3).find("dingle.unmatched="), std::string::npos);
  EXPECT_EQ(r.fields(4), "layout=3 rest=what! other=what");
  r = run({"1 what!", "2 what!", "9"},
          step("parse", map({{"templates", list({"{layout:int} {rest}", "{rest}"})}})), parse());
  EXPECT_EQ(r.fields(0), "layout=1 rest=what! other=what") << "the common ones, behind a case's own";
  EXPECT_EQ(r.tallies[1].matched, (std::vector<std::uint64_t>{2, 0, 0, 0}));
  EXPECT_NE(r.fields(2).find("dingle.unmatched="), std::string::npos)
      << "without the field, the common ones alone";
  r = run({"1 ship Tern", "2 crane 4", "1 7", "2 ship Tern", "3 what!"},
          step("parse", map({{"templates", list({"{layout:int} {rest}"})}})), parse());
  // By number: the common templates come first, then those of the cases.
  EXPECT_EQ(r.tallies[1].matched, (std::vector<std::uint64_t>{1, 1, 1, 1}));
  EXPECT_EQ(r.batch.events[1].template_number, 4);
  EXPECT_EQ(parse()->templates(),
            (std::vector<std::string>{"{other}!", "ship {ship}", "{x:int}", "crane {crane:int}"}));
}

TEST(ParseCases, OneThatCannotBeMadeIsToldWhereverItStands) {
  static const PatternLibrary library;
  for (auto [first, second] : {std::pair{"{n:int", "{n:int}"}, {"{n:int}", "{n:int"}}) {
    Findings findings("");
    const Node options =
        map({{"by", scalar("x")}, {"cases", map({{"1", list({first})}, {"2", list({second})}})}});
    const StepKind* k = step_kind("parse");
    Options o = Options::read(k->spec.options, options, "parse", findings);
    EXPECT_EQ(k->make({o, library, findings}), nullptr);
    EXPECT_EQ(findings.errors(), 1u);
  }
}

TEST(ParsePartial, KeepsWhatMatchedBeforeTheFailure) {
  Trial r = run({"7 x"}, step("parse", map({{"templates", list({"{a:int} {b:int}"})},
                                            {"keep_partial", scalar("true", false)}})));
  EXPECT_EQ(r.fields(0).substr(0, 4), "a=7 ");
  EXPECT_EQ(r.tallies[0].failed, 1u);
}

TEST(ParseOpenEnd, NeedOnlyMatchTheBeginning) {
  Trial r = run({"7 and more"},
                step("parse", map({{"templates", list({"{a:int}"})}, {"open_end", scalar("true", false)}})));
  EXPECT_EQ(r.fields(0), "a=7");
}

TEST(ParseFound, FieldsThatOnlyTheLineNames) {
  Trial r = run({"sent {\"ship\":\"Tern\",\"n\":{\"b\":4}} a=1"},
                step("parse", map({{"templates", list({"{m} {:json} {p.:pairs}"})}})));
  EXPECT_EQ(r.fields(0), "m=sent ship=Tern n.b=4 p.a=1");
}

TEST(ParseExpensive, IsCountedByTemplate) {
  std::string text;
  for (int i = 0; i < 40; ++i) text += "{[}{:text}<" + std::to_string(i) + ">{]}";
  Trial r = run({std::string(3000, 'a')}, step("parse", map({{"templates", list({"{n:int}", text + "!"})}})));
  EXPECT_EQ(r.tallies[0].expensive, (std::vector<std::uint64_t>{0, 1}));
  EXPECT_NE(r.fields(0).find("too expensive"), std::string::npos);
}

}  // namespace
}  // namespace dingle
