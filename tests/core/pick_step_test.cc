// pick: values from anywhere in a text.
#include "tests/core/step_fixture.h"

namespace dingle {
namespace {

std::unique_ptr<Step> picks(const Texts& first, const Texts& last = {}, const Texts& all = {},
                            const Texts& required = {}) {
  Node options = map({});
  if (!first.empty()) options.entries.push_back({"templates", {}, list(first)});
  if (!last.empty()) options.entries.push_back({"last", {}, list(last)});
  if (!all.empty()) options.entries.push_back({"all", {}, list(all)});
  if (!required.empty()) options.entries.push_back({"required", {}, list(required)});
  return step("pick", options);
}

TEST(Pick, FiveValuesInAnyOrderTwoOfThemAbsent) {
  const Trial r =
      run({"<call><position lat=\"59.898\"/><ship>Kittiwake</ship><channel>11</channel></call>"},
          picks({"<ship>{ship}</ship>", "<channel>{channel:int}</channel>", "lat=\"{latitude:decimal}\"",
                 "lon=\"{longitude:decimal}\"", "<crew>{crew:int}</crew>"}));
  EXPECT_EQ(r.fields(0), "ship=Kittiwake channel=11 latitude=59.898");
  EXPECT_EQ(r.batch.events[0].find(field_id("channel"))->value.kind(), Kind::integer);
  EXPECT_EQ(r.tallies[0].missed, 2u);
  EXPECT_EQ(r.tallies[0].failed, 0u);
  EXPECT_EQ(r.tallies[0].out, 1u);
  EXPECT_EQ(r.tallies[0].matched, (std::vector<std::uint64_t>{1, 1, 1, 0, 0}));
}

TEST(Pick, BeginsWhereAWordBegins) {
  EXPECT_EQ(run({"superuser=root user=ann"}, picks({"user={user:word}"})).fields(0), "user=ann");
  EXPECT_EQ(run({"superuser=root"}, picks({"user={user:word}"})).fields(0), "");
  EXPECT_EQ(run({"a<b>1"}, picks({"<b>{b:int}"})).fields(0), "b=1");  // no word of its own
}

TEST(Pick, GoesOnWhereAnOccurrenceDoesNotFit) {
  const Trial r =
      run({"berth=none berth= berth=4 berth=7"}, picks({"berth={first:int}"}, {"berth={final:int}"}));
  EXPECT_EQ(r.fields(0), "first=4 final=7");
  EXPECT_EQ(run({"berth=4 berth=none"}, picks({}, {"berth={berth:int}"})).fields(0), "berth=4");
}

TEST(Pick, AllOccurrencesBecomeAList) {
  const Trial r = run({"ship=Tern at 4, ship=Auk at x, ship=Skua at 7", "none"},
                      picks({}, {}, {"ship={ship:word} at {berth:int}"}));
  EXPECT_EQ(r.fields(0), "ship=[\"Tern\",\"Skua\"] berth=[4,7]");
  EXPECT_EQ(r.fields(1), "");
  EXPECT_EQ(r.tallies[0].missed, 1u);
}

TEST(Pick, WhatIsRequiredFails) {
  const Trial r =
      run({"ship=Tern", "berth=4"}, picks({"ship={ship:word}", "berth={berth:int}"}, {}, {}, {"ship"}));
  EXPECT_EQ(r.fields(0), "ship=Tern");
  EXPECT_EQ(r.fields(1), "berth=4 dingle.unmatched=pick: there is no ship in it");
  EXPECT_EQ(r.tallies[0].failed, 1u);
}

TEST(Pick, TriesNoMoreThanAThousandPlaces) {
  std::string text;
  for (int i = 0; i < 3000; ++i) text += "n=x ";
  const Trial r = run({text + "n=4"}, picks({"n={a:int}"}, {"n={b:int}"}, {"n={c:int}"}));
  EXPECT_EQ(r.fields(0), "b=4");
  EXPECT_EQ(r.tallies[0].expensive, (std::vector<std::uint64_t>{1, 0, 1}));
}

TEST(Pick, SaysWhereItsValuesStand) {
  const Trial r = run({"x berth=47 ship=Tern"});
  const auto pick = picks({"ship={ship:word}", "berth={berth:int}"}, {}, {"e={all:word}"});
  std::string told;
  for (const auto& c : pick->captured(r.batch, r.batch.events[0]))
    told += c.field + "@" + std::to_string(c.text.data() - r.batch.events[0].body.data()) + "=" +
            std::string(c.text) + " ";
  EXPECT_EQ(told, "ship@16=Tern berth@8=47 ");
}

TEST(Pick, WrongTemplatesAreTold) {
  static const PatternLibrary library;
  const auto problem = [&](const Node& options) {
    Findings findings("");
    const StepKind* k = step_kind("pick");
    Options o = Options::read(k->spec.options, options, "pick", findings);
    if (o.sound()) k->make({o, library, findings});
    return findings.all().empty() ? "" : findings.all()[0].message;
  };
  EXPECT_NE(problem(map({})).find("no templates"), std::string::npos);
  for (const auto& [text, said] :
       std::vector<std::pair<std::string, std::string>>{{"{user:word} x", "begins with the text"},
                                                        {"user={user}", "nothing says where this value ends"},
                                                        {"user=", "takes no value"},
                                                        {"q={:pairs}", "fields of its own"},
                                                        {"user={user:wrod}", "wrod"}})
    EXPECT_NE(problem(map({{"templates", list({text})}})).find(said), std::string::npos)
        << text << problem(map({{"templates", list({text})}}));
}

}  // namespace
}  // namespace dingle
