#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "core/flow/pipeline.h"
#include "core/json_text.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

Node scalar(const std::string& text, bool quoted = true) {
  Node n;
  n.form = Node::Form::scalar;
  n.scalar = text;
  n.quoted = quoted;
  return n;
}
Node list(const std::vector<std::string>& texts) {
  Node n;
  n.form = Node::Form::list;
  for (const auto& t : texts) n.items.push_back(scalar(t));
  return n;
}
Node map(std::vector<std::pair<std::string, Node>> entries) {
  Node n;
  n.form = Node::Form::map;
  for (auto& [key, value] : entries) n.entries.push_back({key, {}, std::move(value)});
  return n;
}

// A step as a configuration would make it.
std::unique_ptr<Step> step(const char* kind, const Node& options) {
  static const PatternLibrary library;
  Findings findings("");
  const StepKind* k = step_kind(kind);
  Options o = Options::read(k->spec.options, options, kind, findings);
  auto made = k->make({o, library, findings});
  for (const Finding& f : findings.all()) ADD_FAILURE() << f.message;
  if (!o.text("where").empty()) made->where = std::make_unique<Condition>(*Condition::parse(o.text("where")));
  made->kind = kind;
  return made;
}

struct Trial {
  std::unique_ptr<Pipeline> pipeline;
  std::shared_ptr<LineBuffer> buffer;
  Batch batch;
  std::vector<StepTally> tallies;
  // The fields of one event: "name=value name=value"
  std::string fields(std::size_t i) const {
    std::string out;
    for (const Field& f : batch.events[i].all())
      out += (out.empty() ? "" : " ") + std::string(field_name(f.name)) + "=" + f.value.to_string();
    return out;
  }
};

template <class... Steps>
Trial run(const std::vector<std::string>& lines, Steps... steps) {
  Trial r;
  std::string all;
  for (const auto& line : lines) all += line + "\n";
  r.buffer = std::make_shared<LineBuffer>(all.size());
  std::copy(all.begin(), all.end(), r.buffer->bytes.get());
  r.buffer->finish(all.size());
  r.batch.buffer = r.buffer;
  std::size_t at = 0;
  for (const auto& line : lines) {
    Event e;
    e.body = {r.buffer->bytes.get() + at, line.size()};
    e.timestamp = e.observed = 1'795'428'000 * kSecond;
    r.batch.events.push_back(e);
    at += line.size() + 1;
  }
  r.pipeline = std::make_unique<Pipeline>();
  (r.pipeline->add(std::move(steps)), ...);
  r.tallies.resize(r.pipeline->steps.size());
  for (std::size_t i = 0; i < r.tallies.size(); ++i) r.pipeline->step(i, r.batch, r.tallies[i]);
  r.pipeline->finish(r.batch);
  for (const StepTally& t : r.tallies) EXPECT_EQ(t.unbalanced, 0u);
  return r;
}

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

TEST(Failures, TheFirstReasonStays) {
  Trial r = run({"7 soon", "x"}, step("parse", map({{"templates", list({"{n:int} {at}"})}})),
                step("time", map({{"field", scalar("at")}})), step("json", Node{}));
  EXPECT_EQ(r.fields(0), "n=7 at=soon dingle.unmatched=time: the field at holds no time");
  EXPECT_EQ(r.batch.events[0].failed_step, 2);
  EXPECT_EQ(r.batch.events[0].template_number, 1);  // it was parsed: no draft would help
  EXPECT_EQ(r.batch.events[1].failed_step, 1);
  EXPECT_EQ(r.batch.get(r.batch.events[1], names::unmatched_column).as_integer(), 1);
  EXPECT_EQ(r.tallies[2].failed, 2u);
}

// Makes of every event two, or takes one into the one before, as steps to come will; counts what it is told
// to.
struct Multiplies final : Step {
  int off = 0;  // by how much its count is wrong
  bool merges = false;
  void run(Batch& batch, StepTally& tally) const override {
    const std::size_t n = batch.events.size();
    tally.in = n;
    for (std::size_t i = 0; !merges && i < n; ++i) batch.events.push_back(batch.events[i]);
    if (merges) batch.events.resize(n / 2);
    (merges ? tally.merged : tally.created) = merges ? n - n / 2 : n;
    tally.out = batch.events.size() + static_cast<std::uint64_t>(off);
  }
};
TEST(Tallies, AreHeldAgainstTheEventsThatAreThere) {
  for (const bool merges : {false, true})
    for (const int off : {0, 1, -1}) {
      auto wrong = std::make_unique<Multiplies>();
      wrong->off = off;
      wrong->merges = merges;
      Pipeline pipeline;
      pipeline.add(std::move(wrong));
      Batch batch;
      batch.events.resize(4);
      std::vector<StepTally> tallies(1);
      pipeline.step(0, batch, tallies[0]);
      EXPECT_EQ(tallies[0].unbalanced, off == 0 ? 0u : 1u) << merges << off;
      EXPECT_EQ(batch.events.size(), merges ? 2u : 8u);
    }
}
// A step that loses or doubles an event without a word.
struct Forgets final : Step {
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event&) { ++tally.out; });
    batch.events.pop_back();
  }
};
TEST(Tallies, ALostEventIsSeenThoughTheCountsAgree) {
  Pipeline pipeline;
  pipeline.add(std::make_unique<Forgets>());
  Batch batch;
  batch.events.resize(3);
  std::vector<StepTally> tallies(1);
  pipeline.step(0, batch, tallies[0]);
  EXPECT_EQ(tallies[0].unbalanced, 1u);
}

// One is lost and another doubled: every count agrees.
struct Exchanges final : Step {
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event&) { ++tally.out; });
    batch.events.back() = batch.events.front();
  }
};
TEST(Tallies, ALossBesideADoublingIsSeen) {
  Pipeline pipeline;
  pipeline.add(std::make_unique<Exchanges>());
  for (const bool by_branch : {false, true}) {
    Batch batch;
    batch.events.resize(3);
    for (unsigned i = 0; i < 3; ++i)
      if (by_branch)
        batch.events[i].branch = i;
      else
        batch.events[i].position = 10 * i;
    StepTally tally;
    pipeline.step(0, batch, tally);
    EXPECT_EQ(tally.unbalanced, 1u) << by_branch;
  }
}

TEST(Tallies, AreAddedUp) {
  StepTally one{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, {1, 2}, {3}}, sum{.matched = {1}};
  sum.add(one);
  sum.add(one);
  const StepTally two{2, 4, 6, 8, 10, 12, 14, 16, 18, 20, 22, 24, 26, {3, 4}, {6}};
  for (auto part :
       {&StepTally::in, &StepTally::created, &StepTally::out, &StepTally::merged, &StepTally::dropped,
        &StepTally::failed, &StepTally::nanoseconds, &StepTally::fields_left_out, &StepTally::values_as_text,
        &StepTally::stood_for, &StepTally::early, &StepTally::passed_around, &StepTally::unbalanced})
    EXPECT_EQ(sum.*part, two.*part);
  EXPECT_EQ(sum.matched, two.matched);
  EXPECT_EQ(sum.expensive, two.expensive);
}

// What the event itself has, a configuration cannot write either.
TEST(Names, OfTheEventItselfAreRefused) {
  static const PatternLibrary library;
  auto problem = [&](const char* kind, const Node& options) {
    Findings findings("");
    const StepKind* k = step_kind(kind);
    Options o = Options::read(k->spec.options, options, kind, findings);
    if (o.sound()) k->make({o, library, findings});
    return findings.all().empty() ? "" : findings.all()[0].message;
  };
  for (const char* name : {"timestamp", "observed_timestamp", "dingle.pipeline"}) {
    const std::string quoted = "`" + std::string(name) + "`";
    EXPECT_NE(problem("set", map({{"fields", map({{name, scalar("1")}})}})).find(quoted), std::string::npos);
    EXPECT_NE(problem("rename", map({{"fields", map({{"a", scalar(name)}})}})).find(quoted),
              std::string::npos);
    EXPECT_NE(problem("time", map({{"field", scalar(name)}})).find(quoted), std::string::npos);
    EXPECT_NE(problem("parse", map({{"templates", list({"{" + std::string(name) + "}"})}})).find(quoted),
              std::string::npos);
  }
  EXPECT_EQ(problem("set", map({{"fields", map({{"body", scalar("1")}})}})), "");
}

TEST(Set, WhatIsNoFiniteNumberIsAText) {
  Trial r = run(
      {"x"}, step("set", map({{"fields", map({{"a", scalar("inf", false)}, {"b", scalar("nan", false)}})}})));
  EXPECT_EQ(r.batch.events[0].find(field_id("a"))->value.kind(), Kind::text);
  EXPECT_EQ(r.fields(0), "a=inf b=nan");
}

TEST(TimeStep, FromTimestampTextAndNumber) {
  Trial r = run({R"({"t":"2026-11-21T08:00:00Z"})", R"({"t":1795428000.5})", R"({"t":"soon"})", "{}"},
                step("json", Node{}), step("time", map({{"field", scalar("t")}})));
  EXPECT_EQ(format_rfc3339(r.batch.events[0].timestamp), "2026-11-21T08:00:00Z");
  EXPECT_EQ(format_rfc3339(r.batch.events[1].timestamp), "2026-11-23T10:00:00.500Z");
  EXPECT_EQ(r.batch.events[2].timestamp, r.batch.events[2].observed);
  EXPECT_EQ(r.tallies[1].failed, 1u);
  EXPECT_EQ(r.fields(0), "");
}
TEST(TimeStep, ZoneAppliesOnlyToTimesWithoutOne) {
  Trial r = run({"2026-11-23 10:00:00", "2026-11-23 10:00:00Z"},
                step("parse", map({{"templates", list({"{at:rfc3339}"})}})),
                step("time", map({{"field", scalar("at")}, {"zone", scalar("+02:00")}})));
  EXPECT_EQ(format_rfc3339(r.batch.events[0].timestamp), "2026-11-23T08:00:00Z");
  EXPECT_EQ(format_rfc3339(r.batch.events[1].timestamp), "2026-11-23T10:00:00Z");
}

TEST(Set, ConstantsKeepTheirTypeAndTextsTakeFields) {
  Trial r = run({"tern"}, step("parse", map({{"templates", list({"{ship}"})}})),
                step("set", map({{"fields", map({{"n", scalar("2", false)},
                                                 {"s", scalar("2")},
                                                 {"b", scalar("true", false)},
                                                 {"u", scalar("ship-{ship}-{none}{{}}")}})}})));
  EXPECT_EQ(r.fields(0), "ship=tern n=2 s=2 b=true u=ship-tern-{}");
  EXPECT_EQ(r.batch.events[0].find(field_id("n"))->value.kind(), Kind::integer);
  EXPECT_EQ(r.batch.events[0].find(field_id("s"))->value.kind(), Kind::text);
}
TEST(Set, OfTheBodyReplacesIt) {
  Trial r = run({"tern"}, step("parse", map({{"templates", list({"{ship}"})}})),
                step("set", map({{"fields", map({{"body", scalar("ship {ship}")}})}})));
  EXPECT_EQ(r.batch.events[0].body, "ship tern");
  r = run(
      {"tern"},
      step("set", map({{"fields", map({{"body", scalar("2.5", false)}, {"f", scalar("false", false)}})}})));
  EXPECT_EQ(r.batch.events[0].body, "2.5");
  EXPECT_EQ(r.batch.events[0].find(field_id("f"))->value, Value::boolean(false));
  EXPECT_EQ(r.batch.events[0].find(names::body), nullptr);
  r = run({"tern"},
          step("set", map({{"fields", map({{"body", scalar("fixed")}, {"x", scalar("", false)}})}})));
  EXPECT_EQ(r.batch.events[0].body, "fixed");
  EXPECT_EQ(r.fields(0), "x=");
}
TEST(Set, BracesThatDoNotFitAreRefusedAtTheirPlace) {
  static const PatternLibrary library;
  for (auto [text, column, part] :
       {std::tuple{"ab{x", 2, "not closed"}, {"ab{ }", 2, "field's name"}, {"a}b", 1, "single `}`"}}) {
    Findings findings("");
    const StepKind* k = step_kind("set");
    Node fields = map({{"a", scalar(text)}});
    fields.entries[0].value.place = {1, 10};
    const Node options = map({{"fields", fields}});
    Options o = Options::read(k->spec.options, options, "set", findings);
    EXPECT_EQ(k->make({o, library, findings}), nullptr);
    ASSERT_EQ(findings.all().size(), 1u) << text;
    EXPECT_NE(findings.all()[0].message.find(part), std::string::npos) << findings.all()[0].message;
  }
}
TEST(Omit, OfTheBodyLeavesItEmpty) {
  Trial r = run({"a b"}, step("parse", map({{"templates", list({"{x} {y}"})}})),
                step("omit", map({{"fields", list({"body", "y"})}})));
  EXPECT_EQ(r.batch.events[0].body, "");
  EXPECT_EQ(r.fields(0), "x=a");
  EXPECT_EQ(r.tallies[1].out, 1u);
}
TEST(Rename, ToTheBodyReplacesTheLine) {
  Trial r = run({"7 b"}, step("parse", map({{"templates", list({"{x:int} {y}"})}})),
                step("rename", map({{"fields", map({{"x", scalar("body")}})}})));
  EXPECT_EQ(r.batch.events[0].body, "7");
  EXPECT_EQ(r.fields(0), "y=b");
  r = run({"7 b"}, step("parse", map({{"templates", list({"{x:int} {y}"})}})),
          step("rename", map({{"fields", map({{"y", scalar("body")}})}})));
  EXPECT_EQ(r.batch.events[0].body, "b");
}
TEST(TimeStep, KeepsItsFieldIfAskedAndMarksWhatIsNoTime) {
  Trial r = run({R"({"t":1795428000})", R"({"t":[1]})", R"({"t":true})", "{}"}, step("json", Node{}),
                step("time", map({{"field", scalar("t")}, {"keep", scalar("true", false)}})));
  EXPECT_EQ(r.fields(0), "t=1795428000");
  EXPECT_EQ(format_rfc3339(r.batch.events[0].timestamp), "2026-11-23T10:00:00Z");
  EXPECT_NE(r.fields(1).find("dingle.unmatched=time: the field t holds no time"), std::string::npos)
      << r.fields(1);
  EXPECT_EQ(r.tallies[1].failed, 2u);
  EXPECT_EQ(r.tallies[1].out, 2u);
}
TEST(Json, DropsItsFieldUnlessItIsTheBody) {
  Trial r = run({R"({"p":"{\"a\":1}","q":"{}"})"}, step("json", map({{"keep", scalar("false", false)}})),
                step("json", map({{"field", scalar("p")}, {"keep", scalar("false", false)}})),
                step("json", map({{"field", scalar("none")}})));
  EXPECT_EQ(r.fields(0), "q={} a=1");
  EXPECT_NE(r.batch.events[0].body, "");
  EXPECT_EQ(r.tallies[2].out, 1u);
}
TEST(Omit, AbsentIsFine) {
  Trial r = run({"a b"}, step("parse", map({{"templates", list({"{x} {y}"})}})),
                step("omit", map({{"fields", list({"x", "nothing"})}})));
  EXPECT_EQ(r.fields(0), "y=b");
}
TEST(Rename, ReplacesWhatHadTheName) {
  Trial r = run({"a b"}, step("parse", map({{"templates", list({"{x} {y}"})}})),
                step("rename", map({{"fields", map({{"x", scalar("y")}, {"none", scalar("z")}})}})));
  EXPECT_EQ(r.fields(0), "y=a");
}
TEST(Drop, CountsAndLaterStepsDoNotSeeThem) {
  Trial r = run({"1", "2", "3"}, step("parse", map({{"templates", list({"{n:int}"})}})),
                step("drop", map({{"where", scalar("n < 3")}})),
                step("set", map({{"fields", map({{"seen", scalar("yes")}})}})));
  EXPECT_EQ(r.tallies[1].dropped, 2u);
  EXPECT_EQ(r.tallies[1].out, 1u);
  EXPECT_EQ(r.tallies[2].in, 1u);
}
TEST(Where, OthersPassUnchangedAndAreCountedAsOut) {
  Trial r =
      run({"1", "2"}, step("parse", map({{"templates", list({"{n:int}"})}})),
          step("set", map({{"fields", map({{"big", scalar("true", false)}})}, {"where", scalar("n > 1")}})));
  EXPECT_EQ(r.fields(0), "n=1");
  EXPECT_EQ(r.fields(1), "n=2 big=true");
  EXPECT_EQ(r.tallies[1].in, 2u);
  EXPECT_EQ(r.tallies[1].out, 2u);
}
TEST(Severity, GetsItsNumber) {
  Trial r = run({"WARN x"}, step("parse", map({{"templates", list({"{severity:level} {m}"})}})));
  EXPECT_EQ(r.fields(0), "severity=WARN m=x severity_number=13");
}
TEST(Events, TooManyFieldsAreNotAdded) {
  std::string json = "{";
  for (int i = 0; i < 1500; ++i) json += (i ? ",\"k" : "\"k") + std::to_string(i) + "\":1";
  Trial r = run({json + "}"}, step("json", Node{}));
  EXPECT_EQ(r.batch.events[0].field_count, kMostFields);
  EXPECT_EQ(r.tallies[0].fields_left_out, 1500 - kMostFields);
}

TEST(JsonText, InvalidBytesBecomeReplacementCharacters) {
  std::string out;
  append_json_string(out, std::string("a\xff\xc3(\0\x1b\"é", 9));
  EXPECT_EQ(out, "\"a\xEF\xBF\xBD\xEF\xBF\xBD(\\u0000\\u001b\\\"é\"");
}
// Sixteen bytes are looked at together: what needs an escape may stand anywhere in them, or behind.
TEST(JsonText, EscapesAtEveryPlace) {
  for (const char c : {'"', '\\', '\n', '\x1f', '\x7f', '\x80', ' ', '~'})
    for (std::size_t size : {1, 15, 16, 17, 33})
      for (std::size_t at = 0; at < size; ++at) {
        std::string text(size, 'x'), out;
        text[at] = c;
        append_json_string(out, text);
        const auto json = nlohmann::json::parse(out, nullptr, false);
        EXPECT_EQ(json, c == '\x80' ? text.replace(at, 1, "\xEF\xBF\xBD") : text) << out;
      }
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

TEST(TimeZones, TheSourcesHoldsWhereTheStepSaysNone) {
  Trial r = run({"2026-11-23 10:00:00"}, step("parse", map({{"templates", list({"{at:rfc3339}"})}})));
  r.batch.zone = *Zone::named("Europe/Stockholm");
  StepTally tally;
  step("time", map({{"field", scalar("at")}, {"keep", scalar("true", false)}}))->run(r.batch, tally);
  EXPECT_EQ(format_rfc3339(r.batch.events[0].timestamp), "2026-11-23T09:00:00Z");
  step("time", map({{"field", scalar("at")}, {"zone", scalar("+05:00")}}))->run(r.batch, tally);
  EXPECT_EQ(format_rfc3339(r.batch.events[0].timestamp), "2026-11-23T05:00:00Z");
}

}  // namespace
}  // namespace dingle
