// Steps as they are written in a configuration, on one line each: what becomes of it, and what is counted.
#include <cmath>

#include "agent/sealing.h"
#include "agent/yaml.h"
#include "core/steps/hiding.h"
#include "core/tables/row_table.h"
#include "tests/core/step_fixture.h"

namespace dingle {
namespace {

struct StepCase {
  const char* steps;  // YAML, each step a map of one key
  const char* line;
  const char* event;  // the fields behind them; "body=..." before them where it changed; "" if it was dropped
  const char* counts = "";  // of the last step: what is not 0 but in and out
};

std::unique_ptr<Step> written(const Node& item, Findings& findings) {
  static const PatternLibrary library;
  const Node::Entry entry = item.is_scalar() ? Node::Entry{item.scalar, {}, Node{}} : item.entries.at(0);
  const StepKind* kind = step_kind(entry.key);
  const Options o = Options::read(kind->spec.options, entry.value, entry.key, findings);
  if (!o.sound()) return nullptr;
  auto made = kind->make({o, library, findings});
  if (made == nullptr) return nullptr;
  made->kind = entry.key;
  if (!o.text("where").empty()) made->where = std::make_unique<Condition>(*Condition::parse(o.text("where")));
  return made;
}

std::string counted(const StepTally& t) {
  std::string all;
  const auto add = [&](const char* name, std::uint64_t n) {
    if (n != 0) all += (all.empty() ? "" : " ") + std::string(name) + "=" + std::to_string(n);
  };
  add("dropped", t.dropped), add("failed", t.failed), add("missed", t.missed), add("created", t.created);
  add("gave_up", t.gave_up);
  return all;
}

class StepTable : public testing::TestWithParam<StepCase> {};
TEST_P(StepTable, DoesWhatItsPageSays) {
  Findings findings("");
  const Node steps = read_yaml(GetParam().steps, findings);
  Trial r = run({GetParam().line});
  for (const Node& item : steps.items) {
    auto made = written(item, findings);
    for (const Finding& f : findings.all()) FAIL() << GetParam().steps << ": " << f.message << "; " << f.hint;
    r.pipeline->add(std::move(made));
  }
  r.tallies.resize(r.pipeline->steps.size());
  for (std::size_t i = 0; i < r.tallies.size(); ++i) {
    r.pipeline->step(i, r.batch, r.tallies[i], r.present);
    EXPECT_EQ(r.tallies[i].unbalanced, 0u) << GetParam().steps;
  }
  std::string event;
  for (std::size_t i = 0; i < r.batch.events.size(); ++i) {
    const Event& e = r.batch.events[i];
    if (e.dropped_by != 0) continue;
    if (i != 0 && !event.empty()) event += " | ";
    if (e.body != GetParam().line) event += "body=" + std::string(e.body) + (e.field_count ? " " : "");
    event += r.fields(i);
  }
  EXPECT_EQ(event, GetParam().event) << GetParam().steps;
  EXPECT_EQ(counted(r.tallies.back()), GetParam().counts) << GetParam().steps;
}

constexpr const char* kCall =
    R"(radio <call id="7"><value name="ship">Kittiwake</value><value name="crew">12</value><pos lat="59.9"/></call>)";

INSTANTIATE_TEST_SUITE_P(
    Replace, StepTable,
    testing::Values(
        StepCase{"[replace: { text: ' ', with: '_' }]", "Tern at 4", "body=Tern_at_4"},
        StepCase{"[replace: { text: ' ', with: '_', occurrence: first }]", "Tern at 4", "body=Tern_at 4"},
        StepCase{"[replace: { text: ' ', occurrence: last }]", "Tern at 4", "body=Tern at4"},
        StepCase{"[replace: { text: x, with: y }]", "Tern", "", "missed=1"},
        StepCase{"[replace: { field: ship, text: x }]", "Tern", "", "missed=1"},
        StepCase{R"([replace: { regex: '/ticket/(?<kind>[a-z]+)/\d+', with: '/t/{kind}/{{n}}' }])",
                 "GET /ticket/day/17 /ticket/week/4", "body=GET /t/day/{n} /t/week/{n}"},
        StepCase{R"([replace: { regex: '(?<=a)b*', with: '-' }])", "abba", "body=a-a-"},
        StepCase{R"([replace: { regex: '(?<a>x)|(?<b>y)', with: '[{a}{b}]' }])", "xyz", "body=[x][y]z"},
        StepCase{"[replace: { template: 'user={name:word}', with: 'user=<{name}>' }]",
                 "user=ann superuser=bob user=eve!", "body=user=<ann> superuser=bob user=<eve>!"},
        StepCase{"[replace: { template: '[{n:int}]', with: '({n})' }]", "a[4] b[x] c[007]",
                 "body=a(4) b[x] c(7)"},
        StepCase{"[set: { fields: { state: 1 } }, replace: { field: state, table: { 0: free, 1: taken }, "
                 "otherwise: '?' }]",
                 "-", "state=taken"},
        StepCase{"[set: { fields: { state: 7 } }, replace: { field: state, table: { 0: free }, otherwise: "
                 "unknown }]",
                 "-", "state=unknown"},
        StepCase{"[set: { fields: { state: b } }, replace: { field: state, table: { a: 1, b: 2 } }]", "-",
                 "state=2"},
        StepCase{"[set: { fields: { state: c } }, replace: { field: state, table: { a: 1, b: 2 } }]", "-",
                 "state=c", "missed=1"}));

INSTANTIATE_TEST_SUITE_P(
    Structured, StepTable,
    testing::Values(
        StepCase{"[csv: { columns: [ship, '', 'berth:int'], separator: ';' }]", "Tern;x;4",
                 "ship=Tern berth=4"},
        StepCase{"[csv: { columns: [ship, quay] }]", R"("Tern, the ""old""",west)",
                 R"(ship=Tern, the "old" quay=west)"},
        StepCase{"[csv: { columns: [ship, 'berth:int'] }]", "Tern,four",
                 "dingle.unmatched=csv: expected int in column 2, `berth` dingle.unmatched.column=6",
                 "failed=1"},
        StepCase{"[csv: { columns: [ship, 'berth:int'] }]", "Tern",
                 "dingle.unmatched=csv: expected `,` and column 2, `berth` dingle.unmatched.column=5",
                 "failed=1"},
        StepCase{"[csv: { columns: [ship] }]", "Tern,4",
                 "dingle.unmatched=csv: expected the end of the line dingle.unmatched.column=5", "failed=1"},
        StepCase{"[csv: { columns: [ship], more_cells: true }]", "Tern,4", "ship=Tern"},
        StepCase{R"([csv: { columns: [a, b], separator: '\t', quote: '!' }])", "x\t!y z!", "a=x b=y z"},
        StepCase{"[pairs]", "docked ship=Tern berth=4 at \"quay\" load=2.5 note=\"a b\" end",
                 "ship=Tern berth=4 load=2.5 note=a b"},
        StepCase{"[pairs: { separator: ';', equals: ':', typed: false }]", "a:1;b:two", "a=1 b=two"},
        StepCase{"[pairs]", "nothing here", "", "missed=1"},
        StepCase{"[pairs]", "body=x dingle.id=1", "line.body=x line.dingle.id=1"},
        StepCase{"[pairs: { field: nobody }]", "a=1", "", "missed=1"},
        StepCase{"[xml: { values: { ship: \"value[@name='ship']\", crew: '/call/value[@name=crew]:int', lat: "
                 "'@lat:decimal', id: '/call/@id' } }]",
                 kCall, "ship=Kittiwake crew=12 lat=59.9 id=7"},
        StepCase{"[xml: { values: { ship: \"value[@name='master']\" } }]", kCall, ""},
        StepCase{"[xml: { values: { ship: 'a' } }]", "<call><ship>",
                 "dingle.unmatched=xml: expected an XML element dingle.unmatched.column=1", "failed=1"},
        StepCase{"[set: { fields: { raw: 'x=1' } }, pairs: { field: raw }]", "-", "raw=x=1 x=1"},
        StepCase{"[set: { fields: { raw: '{{\"x\":1}}' } }, json: { field: raw, keep: false }]", "-",
                 "x=1"}));

INSTANTIATE_TEST_SUITE_P(
    Set, StepTable,
    testing::Values(StepCase{"[set: { fields: { a: 7 }, computed: { b: 'a * 2', c: \"b || '!'\" } }]", "-",
                             "a=7 b=14 c=14!"},
                    StepCase{"[set: { fields: { a: '-' }, computed: { a: \"nullif(a, '-')\" } }]", "x", ""},
                    StepCase{"[set: { computed: { body: 'upper(body)' } }]", "tern", "body=TERN"},
                    StepCase{"[set: { computed: { body: 'nobody' } }]", "tern", ""},
                    StepCase{"[set: { fields: { a: 0 }, computed: { b: '1 / a', c: 'a' } }]", "x",
                             "a=0 c=0 dingle.unmatched=set: b has no value: division by zero", "failed=1"},
                    StepCase{"[set: { computed: { a: 'body + 1' } }]", "secret",
                             "dingle.unmatched=set: a has no value: an operand is no number", "failed=1"}));

INSTANTIATE_TEST_SUITE_P(
    Each, StepTable,
    testing::Values(
        StepCase{
            "[json, each: { field: scans, as: scan, copy: [ship] }]",
            R"({"ship":"Tern","berth":4,"scans":[{"t":1,"ok":true},{"t":2}]})",
            R"(body={"t":1,"ok":true} ship=Tern scan.t=1 scan.ok=true dingle.part=1 | body={"t":2} ship=Tern scan.t=2 dingle.part=2)",
            "created=1"},
        StepCase{
            "[json, each: { field: n, as: one, copy: [] }]", R"({"n":["a \"b\"",2.5,[1]]})",
            R"(body=a "b" one=a "b" dingle.part=1 | body=2.5 one=2.5 dingle.part=2 | body=[1] one=[1] dingle.part=3)",
            "created=2"},
        StepCase{"[json, each: { field: n }]", R"({"n":[],"a":1})", "a=1"},
        StepCase{"[json, each: { field: n, empty: drop }]", R"({"n":[],"a":1})", "", "dropped=1"},
        StepCase{"[json, each: { field: n }]", R"({"a":1})", "a=1"},
        StepCase{"[json, each: { field: n, most: 2 }]", R"({"n":[1,2,3]})",
                 "n=[1,2,3] dingle.unmatched=each: the list has more items than `most` allows", "failed=1"},
        StepCase{"[json, each: { field: a }]", R"({"a":1})",
                 "a=1 dingle.unmatched=each: the field is no list", "failed=1"},
        StepCase{"[json, each: { field: n }]", R"({"n":[1]})", "body=1 item=1 dingle.part=1"}));

INSTANTIATE_TEST_SUITE_P(
    Sample, StepTable,
    testing::Values(
        StepCase{"[sample: { share: 100% }]", "x", ""},
        StepCase{"[sample: { share: 0% }]", "x", "", "dropped=1"},
        StepCase{"[sample: { shares: { \"body = 'x'\": 0% }, share: 100% }]", "x", "", "dropped=1"},
        StepCase{"[sample: { shares: { \"body = 'y'\": 0% } }, set: { fields: { a: 1 } }]", "x", "a=1"}));

constexpr const char* kParse = "parse: { templates: ['{user:word} {at:ip} {text}'] }";

class FakeSealing final : public Sealing {
 public:
  std::string problem() const override { return ""; }
  std::string digest(std::string_view text) const override {
    return "d" + std::to_string(text.size()) + "0123456789";
  }
  std::string seal(std::string_view text) const override { return "sealed:" + std::to_string(text.size()); }
};

std::string masking(const std::string& more) {
  return "[" + std::string(kParse) + ", mask: { " + more + " }]";
}

struct MaskCase {
  std::string step;
  const char *line, *event;
};
class Masks : public testing::TestWithParam<MaskCase> {};
TEST_P(Masks, HideEveryCopyInTheEvent) {
  Findings findings("");
  const Node steps = read_yaml(GetParam().step, findings);
  Trial r = run({GetParam().line});
  for (const Node& item : steps.items) r.pipeline->add(written(item, findings));
  for (const Finding& f : findings.all()) FAIL() << GetParam().step << ": " << f.message;
  for (std::size_t i = 0; i < steps.items.size(); ++i) {
    StepTally tally;
    r.pipeline->step(i, r.batch, tally, r.present);
    EXPECT_EQ(tally.unbalanced, 0u);
  }
  EXPECT_EQ(std::string(r.batch.events[0].body) + " | " + r.fields(0), GetParam().event) << GetParam().step;
}
INSTANTIATE_TEST_SUITE_P(
    All, Masks,
    testing::Values(
        MaskCase{masking("fields: [user]"), "kestrel 192.0.2.7 hello kestrel, kestrels",
                 "*** 192.0.2.7 hello ***, kestrels | user=*** at=192.0.2.7 text=hello ***, kestrels"},
        MaskCase{masking("fields: [user]"), "ann 192.0.2.7 ann",
                 "*** 192.0.2.7 ann | user=*** at=192.0.2.7 text=ann"},  // short: by place alone
        MaskCase{masking("fields: [at], with: x"), "ann 192.0.2.7 to 192.0.2.77 and 192.0.2.7",
                 "ann x to 192.0.2.77 and x | user=ann at=x text=to 192.0.2.77 and x"},
        MaskCase{masking("fields: [user, nobody], keep_last: 2"), "kestrel 192.0.2.7 -",
                 "***el 192.0.2.7 - | user=***el at=192.0.2.7 text=-"},
        MaskCase{masking("fields: [user], keep_last: 4"), "kestrel 192.0.2.7 -",
                 "*** 192.0.2.7 - | user=*** at=192.0.2.7 text=-"},  // too short
        MaskCase{masking("find: [card, email], keep_last: 4"),
                 "ann 192.0.2.7 paid 4111 1111 1111 1111, a@b.example; 4111111111111112",
                 "ann 192.0.2.7 paid ***1111, ***mple; 4111111111111112 | user=ann at=192.0.2.7 text=paid "
                 "***1111, ***mple; 4111111111111112"},
        MaskCase{masking("find: [token]"),
                 "ann 192.0.2.7 Authorization: Bearer abcdef123 password=hunter22 x",
                 "ann 192.0.2.7 Authorization: Bearer *** password=*** x | user=ann at=192.0.2.7 "
                 "text=Authorization: Bearer *** password=*** x"},
        MaskCase{masking("find: [address], keep_parts: 3"), "ann 192.0.2.7 from 2001:db8:1::9 v1.2.3",
                 "ann 192.0.2.*** from 2001:db8:1:*** v1.2.3 | user=ann at=192.0.2.*** text=from "
                 "2001:db8:1:*** v1.2.3"},
        MaskCase{masking("regex: 'booking (?<n>[0-9]+)', within: [text]"),
                 "ann 192.0.2.7 booking 778812 and 778812",
                 "ann 192.0.2.7 booking *** and *** | user=ann at=192.0.2.7 text=booking *** and ***"},
        MaskCase{
            "[json, mask: { fields: [user, pin] }]",
            R"({"user":"J\u00f6rg","pin":7,"other":"7 or 17","n":7})",
            R"({"user":"***","pin":***,"other":"*** or 17","n":***} | user=*** pin=*** other=*** or 17 n=7)"},
        MaskCase{"[csv: { columns: [user, note] }, mask: { fields: [user] }]", R"("the ""old"" one",x)",
                 R"("***",x | user=*** note=x)"},
        MaskCase{"[xml: { values: { user: u } }, mask: { fields: [user] }]", "<c><u>Tern &amp; Auk</u></c>",
                 "<c><u>***</u></c> | user=***"},
        MaskCase{"[set: { fields: { id: 40711 } }, mask: { fields: [id] }]",
                 "ticket 040711 of 40711 or 407110", "ticket *** of *** or 407110 | id=***"},
        MaskCase{"[set: { fields: { fare: 12.5 } }, mask: { fields: [fare] }]", "paid 12.50 of 112.5, -12.5",
                 "paid *** of 112.5, -*** | fare=***"},
        MaskCase{"[parse: { templates: ['{at:ip} {text}'] }, mask: { fields: [user] }]", "kestrel was here",
                 "{word} {word} {word} | dingle.unmatched=expected an IP address dingle.unmatched.column=1"},
        MaskCase{"[parse: { templates: ['{at:ip} {text}'] }, mask: { find: [email] }]", "from a@b.example",
                 "from *** | dingle.unmatched=expected an IP address dingle.unmatched.column=1"}));

TEST(Masks, WhatWasNotTakenApartIsSealedOrPasses) {
  Findings findings("");
  const Node steps =
      read_yaml("[parse: { templates: ['{user:word} {at:ip}'] }, mask: { fields: [user] }]", findings);
  for (const auto& [how, expected] : {std::pair{Unparsed::hold, "sealed:14"}, {Unparsed::pass, ""}}) {
    auto mask = written(steps.items[1], findings);
    mask->treat_unparsed(how, std::make_shared<FakeSealing>());
    Trial r = run({"kestrel nobody"}, written(steps.items[0], findings), std::move(mask));
    const Field* held = r.batch.events[0].find(names::held);
    EXPECT_EQ(held ? held->value.to_string() : "", expected);
    EXPECT_EQ(r.batch.events[0].body == "kestrel nobody", how == Unparsed::pass);
  }
}

// Very many in one line cost time in proportion, and what is not looked for everywhere is counted.
TEST(Masks, ManyInOneLineAreBounded) {
  Findings findings("");
  const Node steps = read_yaml("[mask: { find: [email] }]", findings);
  std::string line;
  while (line.size() < 500'000) line += "kestrel" + std::to_string(line.size()) + "@skerry.example ";
  const Trial r = run({line}, written(steps.items[0], findings));
  EXPECT_EQ(r.batch.events[0].body.find("kestrel"), std::string::npos);
  EXPECT_EQ(r.tallies[0].gave_up,
            2u);  // at those that are looked for everywhere, and at those that are found at all
}

TEST(Masks, WhatIsDroppedBeforeIsConcealed) {
  Findings findings("");
  const Node steps = read_yaml("[drop: { where: \"body like '%x'\" }, mask: { find: [email] }]", findings);
  Trial r = run({"kestrel x", "kestrel a@b.example"}, written(steps.items[0], findings),
                written(steps.items[1], findings));
  EXPECT_EQ(std::string(r.batch.events[0].body).find("kestrel x"), std::string::npos);
  EXPECT_EQ(r.batch.events[1].body, "kestrel ***");
}

TEST(Digests, AreEqualForEqualValues) {
  Findings findings("");
  static const PatternLibrary library;
  const Node steps = read_yaml("[digest: { fields: [user], key: { env: NOBODY_SET_THIS } }]", findings);
  const Node::Entry& entry = steps.items[0].entries[0];
  const Options o = Options::read(step_kind("digest")->spec.options, entry.value, "digest", findings);
  auto digest = step_kind("digest")->make(
      {o, library, findings, [](const std::string&) { return std::make_shared<FakeSealing>(); }});
  ASSERT_NE(digest, nullptr);
  const Node parse = read_yaml("[" + std::string(kParse) + "]", findings);
  const Trial r = run({"kestrel 192.0.2.7 kestrel"}, written(parse.items[0], findings), std::move(digest));
  EXPECT_EQ(r.batch.events[0].body, "d70123456789 192.0.2.7 d70123456789");
}

// What is kept is near the share, sums are right, and a second step decides anew.
TEST(SampleShares, MeetTheTruthOnAverage) {
  std::vector<std::string> lines;
  for (int i = 0; i < 20'000; ++i) lines.push_back("trace " + std::to_string(i / 4));
  Findings findings("");
  const Node steps = read_yaml(
      "[parse: { templates: ['trace {t}'] }, sample: { by: t, share: 30% }, sample: { by: t, share: 50% }]",
      findings);
  Trial r = run(lines, written(steps.items[0], findings), written(steps.items[1], findings),
                written(steps.items[2], findings));
  std::map<std::string, int> traces;
  std::int64_t stands_for = 0;
  for (std::size_t i = 0; i < r.batch.events.size(); ++i) {
    const Event& e = r.batch.events[i];
    if (e.dropped_by != 0) continue;
    ++traces[e.find(field_id("t"))->value.to_string()];
    stands_for += e.find(names::stands_for)->value.as_integer();
  }
  for (const auto& [trace, events] : traces) EXPECT_EQ(events, 4) << trace;  // whole
  // Within four standard deviations of the binomial with 5000 traces.
  EXPECT_NEAR(static_cast<double>(traces.size()), 5000 * 0.15, 4 * std::sqrt(5000 * 0.15 * 0.85));
  EXPECT_NEAR(static_cast<double>(stands_for), 20'000, 20'000 * 4 * std::sqrt(0.85 / (0.15 * 5000)));
  EXPECT_EQ(r.tallies[1].dropped + r.tallies[2].dropped + 4 * traces.size(), 20'000u);
}

// Of every kind of step the example of its page, alone and behind every other one, on lines of many sorts: whatever happens to
// events, it is counted.
TEST(EveryStep, LosesNoEventWithoutACount) {
  using Form = TableHandle::Form;
  Tables tables{{"ships", std::make_shared<TableHandle>("ships")},
                {"places", std::make_shared<TableHandle>("places", Form::places)},
                {"logins", std::make_shared<TableHandle>("logins", Form::noted,
                                                         std::vector<std::string>{"user", "from"})}};
  const TableScope scope(tables);
  static const PatternLibrary library;
  std::vector<std::pair<std::string, Node>> examples;
  for (const StepKind& kind : step_kinds()) {
    Findings findings("");
    const Node node = read_yaml(kind.spec.example, findings);
    ASSERT_TRUE(node.is_map() && node.entries.size() == 1) << kind.spec.example;
    examples.emplace_back(node.entries[0].key, node.entries[0].value);
  }
  const auto make = [&](const std::pair<std::string, Node>& example) {
    Findings findings("");
    const StepKind* kind = step_kind(example.first);
    const Options o = Options::read(kind->spec.options, example.second, example.first, findings);
    auto step = o.sound() ? kind->make({o, library, findings,
                                        [](const std::string&) { return std::make_shared<FakeSealing>(); }})
                          : nullptr;
    for (const Finding& f : findings.all())
      ADD_FAILURE() << example.first << ": " << f.message << "; " << f.hint;
    if (step) step->kind = example.first;
    if (step && !o.text("where").empty())
      step->where = std::make_unique<Condition>(*Condition::parse(o.text("where")));
    return step;
  };
  const std::vector<std::string> lines{
      R"({"ship":"Tern","mmsi":219,"scans":[{"t":1},{"t":2},3],"outcome":"refused","n":"x"})",
      R"({"scans":[],"user":"ann","card":"4111 1111 1111 1111","load_kg":7,"trace_id":"a"})",
      "Tern;x;4;2.5",
      "a=1 b=two",
      "<call><value name=\"ship\">Tern</value></call>",
      "",
      "\xff\xfe \"",
      "/ticket/day/17",
      std::string(5000, 'a')};
  std::size_t runs = 0;
  for (std::size_t first = 0; first < examples.size(); ++first)
    for (std::size_t second = 0; second < examples.size(); ++second) {
      std::vector<std::unique_ptr<Step>> steps;
      steps.push_back(make({"json", Node{}}));
      steps.push_back(make(examples[first]));
      steps.push_back(make(examples[second]));
      Trial r = run(lines);
      for (auto& step : steps) {
        ASSERT_NE(step, nullptr);
        r.pipeline->add(std::move(step));
      }
      std::uint64_t created = 0, merged = 0;
      for (std::size_t i = 0; i < r.pipeline->steps.size(); ++i) {
        StepTally tally;
        if (const MemoryStep* memory = r.pipeline->steps[i]->with_memory()) {
          auto held = memory->begin();
          Turn turn;
          turn.now = 1'795'428'000 * kSecond;
          auto prepared = r.pipeline->prepare(i, r.batch);
          r.pipeline->turn(i, r.batch, prepared, *held, turn, tally);
          r.present.reset();
        } else {
          r.pipeline->step(i, r.batch, tally, r.present);
        }
        EXPECT_EQ(tally.unbalanced, 0u) << examples[first].first << ", " << examples[second].first;
        created += tally.created, merged += tally.merged;
      }
      const auto finished = r.pipeline->finish(r.batch);
      EXPECT_EQ(lines.size() + created, r.batch.events.size() + merged);
      EXPECT_LE(finished.dropped, r.batch.events.size());
      ++runs;
    }
  EXPECT_EQ(runs, examples.size() * examples.size());
  EXPECT_GE(examples.size(), 25u);
}

struct RefusedCase {
  const char* step;
  const char* says;
};
class RefusedStep : public testing::TestWithParam<RefusedCase> {};
TEST_P(RefusedStep, SaysWhatIsWrong) {
  Findings findings("");
  const Node steps = read_yaml(GetParam().step, findings);
  const auto made = written(steps.items.at(0), findings);
  EXPECT_EQ(made, nullptr) << GetParam().step;
  ASSERT_FALSE(findings.all().empty()) << GetParam().step;
  const std::string said = findings.all()[0].message + "; " + findings.all()[0].hint;
  EXPECT_NE(said.find(GetParam().says), std::string::npos) << GetParam().step << ": " << said;
}
INSTANTIATE_TEST_SUITE_P(
    All, RefusedStep,
    testing::Values(
        RefusedCase{"[replace: { with: x }]", "nothing of what it replaces"},
        RefusedCase{"[replace: { text: a, regex: b }]", "in several ways"},
        RefusedCase{"[replace: { text: '' }]", "empty"}, RefusedCase{"[replace: { regex: '(' }]", "regex"},
        RefusedCase{"[replace: { regex: '(?<kind>a)', with: '{knd}' }]", "did you mean `kind`"},
        RefusedCase{"[replace: { text: a, with: '{b}' }]", "called `b`"},
        RefusedCase{"[replace: { text: a, with: '{' }]", "not closed"},
        RefusedCase{"[replace: { template: '{a:word}' }]", "begins with a literal"},
        RefusedCase{"[replace: { template: 'x={a}' }]", "where this value ends"},
        RefusedCase{"[replace: { field: timestamp, text: a }]", "belongs to the event"},
        RefusedCase{"[csv: { columns: ['a b'] }]", "not a field name"},
        RefusedCase{"[csv: { columns: [a], separator: '--' }]", "one byte"},
        RefusedCase{"[csv: { columns: [a, a] }]", "twice"},
        RefusedCase{"[csv: { columns: [timestamp] }]", "belongs to the event"},
        RefusedCase{"[csv: { columns: ['a:itn'] }]", "did you mean `int`"},
        RefusedCase{"[xml: { values: { a: 'b[@c' } }]", "no element"},
        RefusedCase{"[sample: { share: '30' }]", "no share"},
        RefusedCase{"[sample: { share: 101% }]", "no share"}, RefusedCase{"[sample: {}]", "neither `share`"},
        RefusedCase{"[sample: { shares: { 'a ==': 1% } }]", "single ="},
        RefusedCase{"[pace: { most: 0 }]", "most"}, RefusedCase{"[each: { field: a, as: body }]", "as"},
        RefusedCase{"[mask: {}]", "what is hidden"},
        RefusedCase{"[mask: { find: [cards] }]", "did you mean `card`"},
        RefusedCase{"[mask: { regex: '(' }]", "regex"},
        RefusedCase{"[mask: { fields: [a], within: [b] }]", "`within` is for"},
        RefusedCase{"[digest: { fields: [a] }]", "key"}, RefusedCase{"[pairs: { equals: '' }]", "one byte"},
        RefusedCase{"[set: {}]", "neither `fields` nor `computed`"},
        RefusedCase{"[set: { computed: { a: 'b +' } }]", "a value"},
        RefusedCase{"[set: { computed: { timestamp: '1' } }]", "belongs"}));

}  // namespace
}  // namespace dingle
