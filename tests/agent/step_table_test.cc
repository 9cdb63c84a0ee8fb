// Steps as they are written in a configuration, on one line each: what becomes of it, and what is counted.
#include <cmath>

#include "agent/yaml.h"
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
  for (const std::uint64_t n : t.expensive) add("expensive", n);
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
        RefusedCase{"[pairs: { equals: '' }]", "one byte"},
        RefusedCase{"[set: {}]", "neither `fields` nor `computed`"},
        RefusedCase{"[set: { computed: { a: 'b +' } }]", "a value"},
        RefusedCase{"[set: { computed: { timestamp: '1' } }]", "belongs"}));

}  // namespace
}  // namespace dingle
