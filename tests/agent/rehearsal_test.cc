// Sample lines through pipelines, every step looked at.
#include "agent/rehearsal/rehearsal.h"

#include <gtest/gtest.h>

#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr std::int64_t kNow = 1'795'000'000 * kSecond;

class RehearsalTest : public testing::Test {
 protected:
  std::shared_ptr<const Configuration> configuration;
  std::vector<SampleLine> lines;
  std::optional<Rehearsal> rehearsal;

  void rehearse(const std::string& pipelines, const std::vector<std::string>& texts,
                const std::string& pipeline = "p", const std::string& source = "s") {
    const std::string yaml =
        "version: 1\nsources: { s: { files: { paths: [/nowhere/gate.log] }, resource: { service.name: gate } "
        "},\n"
        "  other: { files: { paths: [/nowhere/other.log], join: { indented: true } } } }\n"
        "destinations: { d: { index: { name: 'gate-{service.name}' } }, e: { nowhere: {} } }\npipelines:\n" +
        pipelines;
    Findings findings(yaml);
    configuration = read_configuration(yaml, findings);
    for (const Finding& f : findings.all()) ASSERT_FALSE(f.is_error) << f.message << " " << f.hint;
    lines.clear();
    for (const std::string& t : texts) lines.push_back({t});
    rehearsal.emplace(Rehearsal::Asked{*configuration, source, pipeline, lines, kNow});
  }
  const Rehearsal::OfPipeline& first() const { return rehearsal->pipelines().front(); }

  // "1: +a=5@3,1 ..." by event: what each step did.
  static std::string told(const Rehearsal::Traced& e) {
    std::string all;
    for (const Rehearsal::Done& done : e.steps) {
      all += (all.empty() ? "" : "; ") + std::to_string(done.step) + ":";
      if (done.passed_by) all += " by";
      if (done.failed) all += " failed";
      for (const Rehearsal::Change& c : done.changes) {
        all += " " + std::string(field_name(c.field));
        if (!c.before.absent()) all += " " + c.before.to_string() + "→";
        all += c.after.absent() ? "gone" : (c.before.absent() ? "=" : "") + c.after.to_string();
        if (c.span) all += "@" + std::to_string(c.span->from) + "+" + std::to_string(c.span->length);
      }
    }
    return all;
  }
  std::string outcome(std::size_t event) const {
    const Rehearsal::Traced& e = first().events.at(event);
    std::string text = name_of(e.outcome);
    if (e.ended_by != 0) text += " " + std::to_string(e.ended_by);
    for (const auto& [d, name] : e.to) text += " " + configuration->destinations[d].name + ":" + name;
    return text;
  }
};

constexpr const char* kGate = R"(  p:
    from: [s]
    where: "body not like '#%'"
    steps:
      - parse: { templates: ['{at:rfc3339} {ship:word} {seconds:decimal} {status:int}'] }
      - time: { field: at }
      - drop: { where: "status = 204" }
      - rename: { fields: { ship: vessel.name } }
      - set: { fields: { port: Saltholm }, where: "status >= 500" }
      - omit: { fields: [seconds] }
    to: [d, { e: "status >= 500" }]
)";

TEST_F(RehearsalTest, ShowsWhatEachStepDidAndWhereInTheLineItStands) {
  rehearse(kGate, {"2026-11-23T10:00:00Z Tern 0.5 200", "2026-11-23T10:00:01Z Auk 1.5 503",
                   "2026-11-23T10:00:02Z Auk 2 204", "Skua?", "# a comment"});
  ASSERT_EQ(first().events.size(), 4u);
  EXPECT_EQ(told(first().events[0]),
            "1: at=2026-11-23T10:00:00Z@0+20 ship=Tern@21+4 seconds=0.5@26+3 status=200@30+3; "
            "2: at 2026-11-23T10:00:00Z→gone@0+20 timestamp 2026-11-18T11:06:40Z→2026-11-23T10:00:00Z@0+20; "
            "3: by; 4: vessel.name=Tern@21+4 ship Tern→gone@21+4; 5: by; 6: seconds 0.5→gone@26+3");
  EXPECT_EQ(told(first().events[1]).substr(told(first().events[1]).find("; 5") + 2),
            "5: port=Saltholm; 6: seconds 1.5→gone@25+3");
  EXPECT_EQ(outcome(0), "goes_on d:gate-gate");
  EXPECT_EQ(outcome(1), "goes_on d:gate-gate e:");
  EXPECT_EQ(outcome(2), "dropped 3");
  EXPECT_EQ(outcome(3), "failed 1 d:gate-gate");
  EXPECT_EQ(first().events[3].column, 1u);
  EXPECT_NE(first().events[3].reason.find("expected"), std::string::npos);
  ASSERT_EQ(first().not_taken.size(), 1u);
  EXPECT_EQ(first().not_taken[0].line, 4u);
  EXPECT_STREQ(first().not_taken[0].why, "where");
  EXPECT_EQ(rehearsal->leftovers(), 1u);
  EXPECT_EQ(first().count(Rehearsal::Outcome::goes_on), 2u);
}

TEST_F(RehearsalTest, MembersOfJsonStandWhereTheirValuesDo) {
  rehearse(
      "  p: { from: [s], steps: [ json: { depth: 2 }, rename: { fields: { pos.lat: latitude } } ], to: [d] "
      "}\n",
      {R"({"ship":"Tern","n":42,"pos":{"lat":59.9,"deep":{"x":1}},"list":[1, 2],"e":"a\"b"})"});
  EXPECT_EQ(
      told(first().events[0]),
      "1: ship=Tern@9+4 n=42@19+2 pos.lat=59.9@35+4 pos.deep={\"x\":1}@47+7 list=[1,2]@63+6 e=a\"b@75+4; "
      "2: latitude=59.9@35+4 pos.lat 59.9→gone@35+4");
}

TEST_F(RehearsalTest, CountsByStep) {
  rehearse(kGate, {"2026-11-23T10:00:00Z Tern 0.5 200", "2026-11-23T10:00:02Z Auk 2 204", "Skua?"});
  const auto& steps = first().steps;
  ASSERT_EQ(steps.size(), 6u);
  EXPECT_EQ(steps[0].tally.in, 3u);
  EXPECT_EQ(steps[0].tally.failed, 1u);
  EXPECT_EQ(steps[0].changed, 2u);
  EXPECT_EQ(steps[2].tally.dropped, 1u);
  EXPECT_EQ(steps[5].tally.bytes_in - steps[5].tally.bytes_out, 8u);  // a decimal
  ASSERT_EQ(steps[0].fields.size(), 4u);
  EXPECT_EQ(field_name(steps[0].fields[3].field), "status");
  EXPECT_EQ(steps[0].fields[3].events, 2u);
  EXPECT_EQ(steps[0].fields[3].kinds.at("int"), 2u);
}

TEST_F(RehearsalTest, WhatAStepHoldsAtTheEndOfTheSampleComesOutMarked) {
  rehearse(R"(  p:
    from: [s]
    steps:
      - parse: { templates: ['{ship:word} {n:int}'] }
      - fold: { by: [ship], window: 1h, values: { total: sum(n) } }
    to: [d]
)",
           {"Tern 1", "Auk 5", "Tern 2"});
  ASSERT_EQ(first().events.size(), 5u);
  for (std::size_t i = 0; i < 3; ++i) EXPECT_EQ(outcome(i), "merged 2");
  std::map<std::string, std::string> totals;
  for (std::size_t i = 3; i < 5; ++i) {
    const Rehearsal::Traced& e = first().events[i];
    EXPECT_TRUE(e.at_end);
    EXPECT_EQ(e.made_by, 2);
    std::map<std::string, std::string> fields;
    for (const Field& f : e.fields) fields[std::string(field_name(f.name))] = f.value.to_string();
    totals[fields["ship"]] = fields["total"];
    EXPECT_EQ(outcome(i), "goes_on d:gate-none");
  }
  EXPECT_EQ(totals, (std::map<std::string, std::string>{{"Tern", "3"}, {"Auk", "5"}}));
}

// What thins events out, or counts them, leaves alerts alone, unless its condition speaks of them.
TEST_F(RehearsalTest, AlertsPassWhatTakesEventsAway) {
  const auto alerts_behind = [&](const std::string& step) {
    rehearse(
        "  p: { from: [s], steps: [ { parse: { templates: ['{n:int}'] } }, { alert: { called: a, more_than: "
        "1, within: 1h, quiet: 1h } }, { " +
            step + " } ], to: [d] }\n",
        {"7", "7", "7"});
    const auto& events = first().events;
    return std::count_if(events.begin(), events.end(), [](const Rehearsal::Traced& e) {
      return e.made_by == 2 && e.outcome == Rehearsal::Outcome::goes_on;
    });
  };
  for (const char* step : {"fold: { window: 1h, values: { n: count(*) } }", "unique: { by: [n], within: 1h }",
                           "sample: { share: 0% }", "pace: { most: 1, each: 1h }",
                           "alert: { called: b, more_than: 1, within: 1h, name: b }"})
    EXPECT_EQ(alerts_behind(step), 1) << step;
  EXPECT_EQ(alerts_behind("sample: { share: 0%, where: '\"dingle.alert\" is not null' }"), 0);
}

TEST_F(RehearsalTest, SaysOfEveryPipelineWhetherItTakesALine) {
  const std::string pipelines = R"(  wide: { from: [s], where: "body like 'Tern%'", to: [d] }
  narrow: { from: [s], unless: "body like 'Tern%'", to: [d] }
  behind: { from: [wide], where: "body like '%7'", to: [e] }
  rest: { from: [leftovers], to: [d] }
  elsewhere: { from: [other], to: [d] }
)";
  rehearse(pipelines, {"Tern 5"}, "");
  std::map<std::string, std::string> told;
  for (const auto& p : rehearsal->pipelines()) {
    std::string& to = told[p.node->pipeline->name];
    to = p.unreached.empty() ? std::to_string(p.in) : "unreached";
    for (const auto& n : p.not_taken) to += std::string(" ") + n.why;
  }
  EXPECT_EQ(told, (std::map<std::string, std::string>{{"wide", "1"},
                                                      {"narrow", "0 unless"},
                                                      {"behind", "0 where"},
                                                      {"rest", "0 taken by others"},
                                                      {"elsewhere", "unreached"}}));
  EXPECT_EQ(source_for(*configuration, "elsewhere"), "other");
  EXPECT_EQ(source_for(*configuration, "behind"), "s");
  EXPECT_EQ(source_for(*configuration, "rest"), "s");
}

TEST_F(RehearsalTest, OneThatNoConditionOfToTakesGoesNowhere) {
  rehearse("  p: { from: [s], to: [{ d: \"body like 'Tern%'\" }] }\n", {"Tern", "Auk"});
  EXPECT_EQ(outcome(0), "goes_on d:gate-gate");
  EXPECT_EQ(outcome(1), "unrouted");
}

TEST_F(RehearsalTest, AnEmptySampleIsNone) {
  rehearse(kGate, {});
  EXPECT_EQ(first().in, 0u);
  EXPECT_TRUE(first().events.empty());
  EXPECT_EQ(rehearsal->leftovers(), 0u);
}

TEST_F(RehearsalTest, CutsATextAsTheSourceWould) {
  rehearse(kGate, {});
  const auto joined = lines_of_text(*configuration, "other", "a\n  b\nc");
  ASSERT_EQ(joined.size(), 2u);
  EXPECT_EQ(joined[0].text, "a\n  b");
  EXPECT_EQ(lines_of_text(*configuration, "s", "a\n  b\nc\n").size(), 3u);
  EXPECT_TRUE(lines_of_text(*configuration, "s", "").empty());
}

TEST_F(RehearsalTest, AsJsonHasFailedOnesFirstAndNoMoreThanAskedFor) {
  rehearse(kGate, {"2026-11-23T10:00:00Z Tern 0.5 200", "2026-11-23T10:00:00Z Tern 0.5 201", "\xff?"});
  const Json answer = json_of(*rehearsal, 1);
  const Json& p = answer["pipelines"][0];
  EXPECT_EQ(p["outcomes"]["goes_on"], 2);
  ASSERT_EQ(p["events"].size(), 2u);
  EXPECT_EQ(p["events"][0]["outcome"], "failed");
  EXPECT_EQ(p["events"][0]["text"], "\xEF\xBF\xBD?");
  EXPECT_EQ(p["events"][1]["line"], 1);
  EXPECT_EQ(
      p["events"][1]["fields"][1],
      (Json{{"field", "vessel.name"}, {"type", "text"}, {"value", "Tern"}, {"from", 21}, {"length", 4}}));
  EXPECT_EQ(p["to"][0]["names"]["gate-gate"], 3);
}

TEST_F(RehearsalTest, TooMuchJsonIsCutAndSaysSo) {
  const std::vector<std::string> texts(300, "2026-11-23T10:00:00Z " + std::string(100'000, 'x') + " 0.5 200");
  rehearse(kGate, texts);
  const Json answer = json_of(*rehearsal, 1000);
  EXPECT_EQ(answer["cut_at_bytes"], Rehearsal::kMostAnswered);
  EXPECT_EQ(answer["pipelines"][0]["outcomes"]["goes_on"], 300);
  EXPECT_LT(answer["pipelines"][0]["events"].size(), 200u);
  EXPECT_LT(dump(answer).size(), Rehearsal::kMostAnswered * 2);
  EXPECT_FALSE(json_of(*rehearsal, 1).contains("cut_at_bytes"));
}

}  // namespace
}  // namespace dingle
