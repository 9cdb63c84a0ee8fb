#include "agent/configuration.h"

#include <gtest/gtest.h>

#include <fstream>
#include <sstream>

#include "agent/namer.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

const std::string kGood = R"(version: 1
sources:
  gate:
    files: { paths: [/var/log/gate*.log] }
pipelines:
  gate:
    from: [gate]
    steps:
      - parse: { templates: ['{client.address:ip} {status:int}'] }
      - drop: { where: "status < 400" }
    to: [operations]
destinations:
  operations:
    index: { name: 'gate-{day}' }
)";

// Every finding as "line:column message".
std::vector<std::string> findings_of(const std::string& text) {
  Findings findings(text);
  read_configuration(text, findings);
  std::vector<std::string> all;
  for (const Finding& f : findings.all())
    all.push_back(std::to_string(f.place.line) + ":" + std::to_string(f.place.column) + " " + f.message +
                  (f.hint.empty() ? "" : " | " + f.hint));
  return all;
}
std::string replaced(std::string text, const std::string& from, const std::string& to) {
  text.replace(text.find(from), from.size(), to);
  return text;
}

// Every kind of component, with options as nobody means them: nothing, nonsense, each option alone, and with every
// form of value. A finding or a sound configuration comes out, and no finding is without its place.
TEST(Configuration, AnyOptionsOfAnyKindAreReadToTheEnd) {
  std::size_t tried = 0;
  auto read = [&](const std::string& text) {
    ++tried;
    Findings findings(text);
    const auto configuration = read_configuration(text, findings);
    EXPECT_NE(configuration == nullptr, findings.errors() == 0) << text;
    for (const Finding& f : findings.all()) EXPECT_NE(f.place.line, 0u) << text << f.message;
  };
  const char* const kValues[] = {"''",
                                 "x",
                                 "0",
                                 "-1",
                                 "99999999999999999999",
                                 "1e9",
                                 "true",
                                 "[]",
                                 "[1]",
                                 "[[]]",
                                 "{}",
                                 "{a: b}",
                                 "{env: X}",
                                 "'{'",
                                 "'${x}'",
                                 "'/x/{'",
                                 "null",
                                 "10s",
                                 "100GiB",
                                 "[a, b]",
                                 "{a: {b: [c]}}",
                                 "'https://x'",
                                 "'127.0.0.1:0'",
                                 "~"};
  auto each = [&](const ComponentSpec& spec, const std::string& before, const std::string& behind) {
    for (const char* all : {"", " {}", " []", " x", " 5", " { nosuch: 1 }"})
      read(before + spec.name + ":" + all + behind);
    auto options = [&](auto& self, const std::vector<OptionSpec>& specs, const std::string& open,
                       const std::string& close) -> void {
      for (const OptionSpec& o : specs) {
        for (const char* value : kValues)
          read(before + spec.name + ": " + open + o.name + ": " + value + close + behind);
        if (o.type == OptionType::section) self(self, o.section, open + o.name + ": {", "}" + close);
      }
    };
    options(options, spec.options, "{", "}");
  };
  const std::string rest = "\npipelines: { p: { from: [s], to: [d] } }\n";
  for (const SourceKind* kind : source_kinds())
    each(kind->spec, "version: 1\nsources: { s: { ",
         " } }" + rest + "destinations: { d: { nowhere: {} } }\n");
  for (const DestinationKind* kind : destination_kinds())
    each(kind->spec,
         "version: 1\nsources: { s: { files: { paths: [/x/*.log] } } }" + rest + "destinations: { d: { ",
         " } }\n");
  for (const StepKind& kind : step_kinds())
    each(
        kind.spec,
        "version: 1\nsources: { s: { files: { paths: [/x/*.log] } } }\ndestinations: { d: { nowhere: {} } }\n"
        "pipelines:\n  p:\n    from: [s]\n    to: [d]\n    steps:\n      - ",
        "\n");
  EXPECT_GT(tried, 1000u);
}

TEST(Configuration, GoodOneHasNoFindings) {
  EXPECT_EQ(findings_of(kGood), std::vector<std::string>{});
  Findings findings(kGood);
  auto c = read_configuration(kGood, findings);
  ASSERT_TRUE(c);
  EXPECT_EQ(c->version.size(), 8u);
  EXPECT_EQ(c->pipelines[0].pipeline->steps.size(), 2u);
}

struct Mistake {
  const char *from, *to, *expected;
};
class Mistakes : public testing::TestWithParam<Mistake> {};
TEST_P(Mistakes, AreFoundWithPlaceAndSuggestion) {
  auto all = findings_of(replaced(kGood, GetParam().from, GetParam().to));
  ASSERT_FALSE(all.empty());
  EXPECT_EQ(all[0].substr(0, std::string(GetParam().expected).size()), GetParam().expected);
}
INSTANTIATE_TEST_SUITE_P(
    Places, Mistakes,
    testing::Values(
        Mistake{"version: 1", "version: 2", "1:10 this program reads version 1"},
        Mistake{"sources:", "surces:", "2:1 unknown key `surces` | did you mean `sources`?"},
        Mistake{"files:", "flies:", "4:5 unknown key `flies` in the source `gate` | did you mean `files`?"},
        Mistake{"paths: [/var/log/gate*.log]", "pathes: [/x]", "4:12 `files` needs the option `paths`"},
        Mistake{"from: [gate]", "from: [gaet]",
                "7:12 there is no source or pipeline `gaet` | did you mean `gate`?"},
        Mistake{"to: [operations]", "to: [operatons]",
                "11:10 there is no destination `operatons` | did you mean `operations`?"},
        Mistake{"- drop:", "- dorp:", "10:9 unknown step `dorp` | did you mean `drop`?"},
        Mistake{"{status:int}", "{status:itn}", "9:59 unknown pattern `itn` | did you mean `int`?"},
        Mistake{"status < 400", "status << 400", "10:33 expected a value"},
        Mistake{"gate-{day}", "gate-{day", "14:26 the brace opened here is not closed"},
        Mistake{"index: {", "index: { keep: { age: 30x },", "14:27 `age` takes a duration"},
        Mistake{"version: 1", "version: 1\nversion: 1", "2:1 the key `version` occurs twice"},
        Mistake{"gate:\n    files: {", "gate:\n    was: gate\n    files: {",
                "4:10 `was: gate` names a source that is still there"},
        Mistake{"gate:\n    files: {", "gate:\n    was: ''\n    files: {", "4:10 `was` is empty"},
        Mistake{"from: [gate]", "was: gate\n    from: [gate]",
                "7:10 `was: gate` names a pipeline that is still there"},
        Mistake{"- drop:", "- fold: { was: unique }\n      - unique: { by: [status] }\n      - drop:",
                "9:7 `was: unique` names a step of `gate` that is still there"},
        Mistake{"index: { name: 'gate-{day}' }", "postgres: { connect: host=h, columns: { body: text } }",
                "14:45 the column `body` is filled anyway"},
        Mistake{"index: {", "index: { events: { omit: [timestamp] },",
                "14:30 `timestamp` is always kept here"},
        Mistake{"index: {", "index: { events: { rename: { body: line } },",
                "14:34 `body` has the same name everywhere"},
        Mistake{"index: {", "index: { events: { fields: [a], omit: [b] },",
                "14:43 `fields` and `omit` do not go together"},
        Mistake{"[gate]\n", "[gate\n", "8:"}, Mistake{"    from: [gate]\n", "", "3:3 no pipeline takes"}));

TEST(Configuration, AnHttpSourceIsChecked) {
  auto findings = [](const std::string& options) {
    return findings_of(
        replaced(kGood, "files: { paths: [/var/log/gate*.log] }", "http: { " + options + " }"));
  };
  EXPECT_EQ(findings("listen: '127.0.0.1:8080'"), std::vector<std::string>());
  for (const auto& [options, expected] : std::vector<std::pair<std::string, std::string>>{
           {"listen: nowhere", "`nowhere` is not an address with a port | for instance 127.0.0.1:8080"},
           {"listen: '0.0.0.0:80'", "anyone who reaches 0.0.0.0:80 can write events | give `token`"},
           {"listen: '[::1]:80', path: in", "`path` begins with /"},
           {"listen: 'localhost:80', largest_request: 65MiB", "`largest_request` is at most 64.0 MiB"},
           {"listen: '127.0.0.1:80', at_once: 501", "`at_once` is at most 500"},
           {"listen: '127.0.0.1:80', tls: { key: k }", "`tls` needs both `certificate` and `key`"}}) {
    const auto all = findings(options);
    ASSERT_EQ(all.size(), 1u) << options;
    EXPECT_NE(all[0].find(expected), std::string::npos) << all[0];
  }
}

TEST(Configuration, FiveMistakesInOneRun) {
  std::string text = kGood;
  for (auto [from, to] : {std::pair{"files:", "flies:"},
                          {"{status:int}", "{status:itn}"},
                          {"status < 400", "status < "},
                          {"[operations]", "[operatons]"},
                          {"gate-{day}", "gate-{}"}})
    text = replaced(text, from, to);
  Findings findings(text);
  EXPECT_FALSE(read_configuration(text, findings));
  EXPECT_EQ(findings.errors(), 5u);
}

TEST(Configuration, WhereEventsGoMayHaveConditions) {
  const auto to = [](const std::string& routes) {
    return findings_of(replaced(kGood, "[operations]", routes));
  };
  using Texts = std::vector<std::string>;
  EXPECT_EQ(to("operations"), Texts{});
  EXPECT_EQ(to("{ operations: 'status >= 500' }"), Texts{});
  EXPECT_EQ(to("[{ operations: 'status >= 500' }]"), Texts{});
  EXPECT_NE(to("[{ operation: 'status >= 500' }]")[0].find(
                "11:12 there is no destination `operation` | did you mean"),
            std::string::npos);
  EXPECT_EQ(to("[{ operations: 'status >= ' }]")[0].substr(0, 21), "11:35 expected a valu")
      << to("[{ operations: 'status >= ' }]")[0];
  EXPECT_NE(to("[operations, { operations: ok }]")[0].find("named twice"), std::string::npos);
  EXPECT_NE(to("[{ operations: [] }]")[0].find("a condition is expected"), std::string::npos);
  EXPECT_NE(to("[[operations]]")[0].find("takes a list of names, which may have a condition"),
            std::string::npos);
  EXPECT_FALSE(to("[]").empty());
}

// Pipelines that take from others, and from what is left over.
TEST(Configuration, PipelinesAreJoined) {
  const auto with = [](const std::string& pipelines) {
    const std::string text =
        "version: 1\nsources: { a: { files: { paths: [/x/*.log] } }, b: { files: { paths: [/y/*.log] } } "
        "}\npipelines:\n" +
        pipelines +
        "destinations: { d: { index: { name: x }, queue: { overflow: shed_oldest } }, e: { print: {} } }\n";
    std::string all;
    for (const std::string& one : findings_of(text)) all += one + "\n";
    return all;
  };
  EXPECT_EQ(with("  p: { from: [a, b] }\n  q: { from: [p], to: [d, e] }\n"), "");
  EXPECT_EQ(
      with(
          "  a: { from: [a], to: [d] }\n  q: { from: [b, leftovers], to: [d] }\n  r: { from: [a], to: e }\n"),
      "6:15 `a` is a source and a pipeline: the source is meant | give the pipeline another name to take its "
      "events\n");
  EXPECT_EQ(with("  p: { from: [a], to: [d, e] }\n  q: { from: [b, p] }\n").substr(0, 40),
            "5:3 the events of `q` go nowhere: it has");
  EXPECT_EQ(
      with("  p: { from: [a, r], to: [d, e] }\n  q: { from: [b, p] }\n  r: { from: [q] }\n").substr(0, 80),
      "4:18 events would go in a circle: `q` -> `r` -> `p` -> `q` | a pipeline takes fr");
  EXPECT_EQ(with("  p: { from: [a, b, p], to: [d, e] }\n").substr(0, 44),
            "4:21 events would go in a circle: `p` -> `p`");
  EXPECT_NE(
      with("  p: { from: [a, b], to: [d, e] }\n  q: { from: [pp], to: [d] }\n").find("did you mean `p`?"),
      std::string::npos);
  EXPECT_NE(with("  leftovers: { from: [a, b], to: [d, e] }\n").find("`leftovers` cannot be a name here"),
            std::string::npos);
  EXPECT_NE(with("  p: { from: [leftovers] }\n  q: { from: [p], to: [e, d] }\n")
                .find("all of them wait when the queue of `e` is full"),
            std::string::npos);
}

TEST(Configuration, StepsMayHaveNames) {
  const auto with = [](const std::string& steps) {
    return findings_of(replaced(kGood, "- drop: { where: \"status < 400\" }", steps));
  };
  EXPECT_TRUE(with("- drop: { where: \"status < 400\", name: quiet }").empty());
  EXPECT_TRUE(
      with("- drop: { where: \"status = 1\", name: x }\n      - drop: { where: \"status = 2\", name: y }")
          .empty());
  const auto twice =
      with("- drop: { where: \"status = 1\", name: x }\n      - drop: { where: \"status = 2\", name: x }");
  ASSERT_EQ(twice.size(), 1u);
  EXPECT_NE(twice[0].find("have the name `x`"), std::string::npos) << twice[0];
  EXPECT_EQ(twice[0].substr(0, 3), "11:");
}

TEST(Configuration, WarnsOfWhatIsUnusedOrNeverReached) {
  auto all = findings_of(replaced(kGood, "      - drop: { where: \"status < 400\" }",
                                  "      - drop: { where: \"true\" }\n      - omit: { fields: [status] }") +
                         "  spare:\n    print: {}\npatterns:\n  berth: { regex: '[A-Z]+' }\n");
  ASSERT_EQ(all.size(), 3u);
  EXPECT_NE(all[0].find("11:9 no event reaches this step"), std::string::npos);
  EXPECT_NE(all[1].find("no pipeline sends to the destination `spare`"), std::string::npos);
  EXPECT_NE(all[2].find("no template uses the pattern `berth`"), std::string::npos);
}

TEST(Configuration, AliasBombIsRefused) {
  std::string text = "version: 1\na0: &a0 [x, x, x, x, x, x, x, x, x, x]\n";
  for (int i = 1; i < 9; ++i) {
    text += "a" + std::to_string(i) + ": &a" + std::to_string(i) + " [";
    for (int k = 0; k < 10; ++k) text += (k ? ", *a" : "*a") + std::to_string(i - 1);
    text += "]\n";
  }
  EXPECT_FALSE(findings_of(text).empty());
}

std::string file(const std::string& path) {
  std::ifstream in(std::string(DINGLE_SOURCE) + "/" + path);
  std::ostringstream all;
  all << in.rdbuf();
  return all.str();
}
TEST(Documents, AreWhatTheProgramWouldWrite) {
  for (const auto& [name, text] : {std::pair{"docs/configuration.md", configuration_reference()},
                                   {"docs/configuration.schema.json", configuration_schema()},
                                   {"docs/patterns.md", pattern_reference()}})
    EXPECT_TRUE(file(name) == text) << name << " is old; run scripts/generate";
}

TEST(Namer, DaysMonthsFieldsAndImplausibleTimes) {
  Batch batch;
  Event e;
  e.observed = *parse_moment("2026-11-23T10:00:00Z", 0);
  e.timestamp = *parse_moment("2026-10-31T23:30:00Z", 0);
  e.set(batch.arena, field_id("ship"), Value::text("Tern"));
  auto name = [&](const char* text, const char* zone = "UTC") {
    bool implausible = false;
    const std::string made = Namer::parse(text, *Zone::named(zone))->name(batch, e, &implausible);
    return made + (implausible ? "!" : "");
  };
  EXPECT_EQ(name("gate-{day}"), "gate-2026-10-31");
  EXPECT_EQ(name("gate-{month}-{ship}-{none}", "+01:00"), "gate-2026-11-Tern-none");
  e.timestamp = *parse_moment("2031-01-01", 0);
  EXPECT_EQ(name("gate-{day}"), "gate-2026-11-23!");
  EXPECT_FALSE(Namer::parse("gate-{day", {}));
}

TEST(Namer, TablesAreNamedSoThatPostgresTakesThem) {
  auto name = [](const std::string& ship) {
    Batch batch;
    Event e;
    e.set(batch.arena, field_id("ship"), Value::text(ship));
    bool implausible = false;
    return Namer::parse("ferry.gate_{ship}", {}, Namer::Form::table)->name(batch, e, &implausible);
  };
  EXPECT_EQ(name("Tern"), "ferry.gate_Tern");
  EXPECT_EQ(name("pg_catalog.x\"y"), "ferry.gate_pg_catalog_x_y");
  const std::string first = name(std::string(70, 'a') + "b"), second = name(std::string(70, 'a') + "c");
  EXPECT_EQ(first.size(), std::string("ferry.").size() + 52);
  EXPECT_TRUE(first.starts_with("ferry.gate_aaa")) << first;
  EXPECT_NE(first, second);
}

}  // namespace
}  // namespace dingle
