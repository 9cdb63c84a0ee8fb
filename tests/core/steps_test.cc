#include "tests/core/step_fixture.h"

namespace dingle {
namespace {

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
      std::optional<Pipeline::Present> present;
      pipeline.step(0, batch, tallies[0], present);
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
  std::optional<Pipeline::Present> present;
  pipeline.step(0, batch, tallies[0], present);
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
    std::optional<Pipeline::Present> present;
    pipeline.step(0, batch, tally, present);
    EXPECT_EQ(tally.unbalanced, 1u) << by_branch;
  }
}

TEST(Tallies, AreAddedUp) {
  StepTally one{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, {1, 2}, {3}},
      sum{.matched = {1}};
  sum.add(one);
  sum.add(one);
  const StepTally two{2, 4, 6, 8, 10, 12, 14, 16, 18, 20, 22, 24, 26, 28, 30, 32, 34, 36, {3, 4}, {6}};
  for (auto part : {&StepTally::in, &StepTally::created, &StepTally::out, &StepTally::merged,
                    &StepTally::dropped, &StepTally::failed, &StepTally::nanoseconds,
                    &StepTally::fields_left_out, &StepTally::values_as_text, &StepTally::stood_for,
                    &StepTally::early, &StepTally::passed_around, &StepTally::measured, &StepTally::bytes_in,
                    &StepTally::bytes_out, &StepTally::missed, &StepTally::gave_up, &StepTally::unbalanced})
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

TEST(Severity, HasItsNumberAsSoonAsItIsSet) {
  Trial r =
      run({"warn 1", "3 2", "info 3"}, step("parse", map({{"templates", list({"{severity:word} {m}"})}})),
          step("set", map({{"fields", map({{"loud", scalar("true", false)}})},
                           {"where", scalar("severity_number >= 13")}})),
          step("set", map({{"computed", map({{"n", scalar("severity_number + 1")}})}})));
  EXPECT_EQ(r.fields(0), "severity=warn m=1 loud=true n=14 severity_number=13");
  EXPECT_EQ(r.fields(1), "severity=3 m=2 loud=true n=18 severity_number=17");
  EXPECT_EQ(r.fields(2), "severity=info m=3 n=10 severity_number=9");
}

TEST(TraceIds, AreAsTheDataModelHasThem) {
  const auto ids = [](const std::string& line) {
    return run({line}, step("parse", map({{"templates", list({"{trace_id:unspaced} {span_id:unspaced}"})}})))
        .fields(0);
  };
  EXPECT_EQ(ids("4BF92F35-77B3-4DA6-A3CE-929D0E0E4736 00F067AA0BA902B7"),
            "trace_id=4bf92f3577b34da6a3ce929d0e0e4736 span_id=00f067aa0ba902b7");
  for (const char* other : {"4BF92F35 00F067AA0BA902B70", "4711 x", "4bf92f3577b34da6a3ce929d0e0e4736 0"})
    EXPECT_EQ(ids(other),
              "trace_id=" + std::string(other).replace(std::string_view(other).find(' '), 1, " span_id="));
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
