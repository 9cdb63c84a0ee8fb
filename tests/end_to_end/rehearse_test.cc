// dingle rehearse, with a server and without one.
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>
#include <map>

#include "tests/end_to_end/daemon.h"

namespace dingle {
namespace {

const char* kBerths = R"(
sources:
  quay: { files: { paths: ['{dir}/logs/quay.log'], join: { indented: true } } }
  tower: { files: { paths: ['{dir}/logs/tower.log'] } }
pipelines:
  berths:
    from: [quay]
    where: "body not like '#%'"
    steps:
      - parse: { templates: ['{at:rfc3339} {ship:word} {berth:int} {state:word}'] }
      - time: { field: at }
      - drop: { where: "state = 'free'" }
    to: [store]
destinations:
  store: { index: { name: 'quay-{day}' } }
)";
const char* kFerryLines =
    "2026-11-23T10:00:00Z Tern 4 docked\n2026-11-23T10:00:01Z Auk 5 free\n# tide turns\nSkua?\n  lost\n";

class Rehearse : public testing::Test {
 protected:
  Daemon daemon{kBerths};
  Json rehearse(std::vector<std::string> arguments, int status) {
    arguments.insert(arguments.begin(), "rehearse");
    arguments.insert(arguments.end(), {"-o", "json"});
    const Ran ran = daemon.dingle(arguments);
    EXPECT_EQ(ran.status, status) << ran.out << ran.err;
    return ran.out.empty() ? Json() : Json::parse(ran.out)["pipelines"][0];
  }
};

TEST_F(Rehearse, SampleSetsKeepLinesUnderNames) {
  daemon.start();
  daemon.write("quay.log", kFerryLines);
  daemon.settled();
  EXPECT_EQ(daemon.dingle({"samples", "keep", "odd", "--source", "quay", "--line", "Skua?\n  lost"}).out,
            "kept: odd, 1 line of quay\n");
  EXPECT_EQ(daemon.dingle({"samples", "keep", "odd", "--source", "quay", "--add"}).out,
            "kept: odd, 5 lines of quay\n");
  EXPECT_EQ(daemon.dingle({"samples", "keep", "file", "-", "--source", "quay"}, kFerryLines).out,
            "kept: file, 4 lines of quay\n");
  daemon.kill();
  daemon.start();
  EXPECT_TRUE(
      daemon.dingle({"samples", "show", "odd"}).out.starts_with("Skua?\n  lost\n2026-11-23T10:00:00Z Tern"));
  const Json sets = Json::parse(daemon.dingle({"samples", "-o", "json"}).out);
  ASSERT_EQ(sets.size(), 2u);
  EXPECT_EQ(sets[1]["name"], "odd");
  EXPECT_EQ(sets[1]["lines"], 5);
  EXPECT_EQ(sets[1]["by"], "owner");
  EXPECT_EQ(rehearse({"berths", "--sample", "odd"}, 1)["outcomes"]["failed"], 2);
  EXPECT_NE(
      daemon.dingle({"rehearse", "--sample", "odd"}).out.find("5 lines, a sample set of the source quay"),
      std::string::npos);
  EXPECT_NE(daemon.dingle({"rehearse", "berths", "--sample", "od"}).err.find("did you mean `odd`?"),
            std::string::npos);
  EXPECT_NE(daemon.dingle({"samples", "keep", "../x", "--source", "quay"}).err.find("is no name for a set"),
            std::string::npos);
  EXPECT_NE(daemon.dingle({"samples", "keep", "x", "--source", "quya"}).err.find("did you mean `quay`?"),
            std::string::npos);
  EXPECT_NE(daemon.dingle({"samples", "keep", "odd", "--source", "tower", "--line", "x", "--add"})
                .err.find("holds lines of `quay`"),
            std::string::npos);
  EXPECT_NE(
      daemon.dingle({"samples", "keep", "x", "--source", "tower"}).err.find("there are no lines to keep"),
      std::string::npos);
  std::string hides = kBerths;
  hides.replace(hides.find("      - drop"), 0, "      - mask: { fields: [ship] }\n");
  daemon.configure(hides);
  daemon.hang_up();
  EXPECT_NE(daemon.problem("and a pipeline hides what they hold").find("dingle samples delete"),
            std::string::npos);
  EXPECT_NE(daemon.dingle({"samples", "keep", "more", "--source", "quay", "--line", "x"})
                .err.find("none are kept here"),
            std::string::npos);
  EXPECT_EQ(daemon.dingle({"samples", "delete", "odd", "file"}).out, "deleted 2 sets\n");
  EXPECT_EQ(daemon.dingle({"samples", "-o", "json"}).out, "[]\n");
  EXPECT_FALSE(std::filesystem::exists(daemon.dir + "/data/samples/odd.json"));
}

TEST_F(Rehearse, TheNewestLinesThenStoredOnesAndNothingIsCounted) {
  daemon.start();
  daemon.write("quay.log", kFerryLines);
  const Json before = find(daemon.settled()["pipelines"], "berths");
  const Json newest = rehearse({"berths"}, 1);
  EXPECT_EQ(newest["in"], 3);
  EXPECT_EQ(newest["outcomes"],
            (Json{{"failed", 1}, {"dropped", 1}, {"merged", 0}, {"unrouted", 0}, {"goes_on", 1}}));
  EXPECT_EQ(newest["not_taken"]["why"], (Json{{"where", 1}}));
  EXPECT_EQ(newest["events"][0]["text"], "Skua?\n  lost");
  EXPECT_EQ(newest["to"][0]["names"]["quay-2026-11-23"], 1);
  const Json stored = rehearse({"berths", "--where", "berth = 4"}, 0);
  EXPECT_EQ(stored["in"], 1);
  daemon.terminate();
  daemon.start();  // it has read nothing yet: what is stored takes the place of the newest lines
  const Ran fallen_back = daemon.dingle({"rehearse", "berths"});
  EXPECT_NE(fallen_back.out.find("2 lines, bodies of stored events of the source quay"), std::string::npos)
      << fallen_back.out;
  const Json after = find(daemon.status()["pipelines"], "berths");
  for (const char* count : {"in", "out", "dropped", "unmatched"})
    EXPECT_EQ(after[count], before[count]) << count;
  EXPECT_EQ(daemon.events().size(), 2u);
}

TEST_F(Rehearse, AChangedTextOnWhatTheServerRead) {
  daemon.start();
  daemon.write("quay.log", kFerryLines);
  daemon.settled();
  std::string changed = read_file(daemon.dir + "/dingle.yaml");
  changed.replace(changed.find("state = 'free'"), 14, "state = 'docked'");
  std::ofstream(daemon.dir + "/changed.yaml") << changed;
  const Json p = rehearse({"berths", "--config", daemon.dir + "/changed.yaml"}, 1);
  EXPECT_EQ(p["outcomes"]["dropped"], 1);
  EXPECT_EQ(p["events"][1]["text"], "2026-11-23T10:00:00Z Tern 4 docked");
  changed.replace(changed.find("state = 'docked'"), 16, "sta te");
  std::ofstream(daemon.dir + "/changed.yaml") << changed;
  const Ran wrong = daemon.dingle({"rehearse", "berths", "--config", daemon.dir + "/changed.yaml"});
  EXPECT_EQ(wrong.status, 1);
  EXPECT_NE(wrong.err.find("changed.yaml:"), std::string::npos) << wrong.err;
}

TEST_F(Rehearse, ALineAFileAndWhatIsWrong) {
  const std::string configuration = daemon.dir + "/dingle.yaml";  // no server is needed with one
  const Ran line = daemon.dingle(
      {"rehearse", "berths", "--config", configuration, "--line", "2026-11-23T10:00:00Z Tern 4 docked"});
  EXPECT_EQ(line.status, 0) << line.err;
  EXPECT_NE(line.out.find("berth         int        4\n"), std::string::npos) << line.out;
  daemon.write("quay.log", kFerryLines);
  EXPECT_EQ(rehearse({"berths", daemon.path("quay.log"), "--config", configuration}, 1)["in"], 3);
  const Ran who = daemon.dingle({"rehearse", "--source", "tower", "--config", configuration, "--line", "x"});
  EXPECT_NE(who.out.find("nothing that comes from tower reaches berths"), std::string::npos) << who.out;
  EXPECT_NE(who.out.find("1 line no pipeline takes"), std::string::npos) << who.out;
  daemon.start();
  const Ran empty = daemon.dingle({"rehearse", "--source", "tower"});
  EXPECT_EQ(empty.status, 1);
  EXPECT_NE(empty.out.find("the source `tower` has read nothing since the start"), std::string::npos)
      << empty.out;
  for (const auto& [arguments, said] : std::vector<std::pair<std::vector<std::string>, std::string>>{
           {{"berth"}, "did you mean `berths`"},
           {{"berths", "--source", "quai"}, "did you mean `quay`"},
           {{}, "name a pipeline"},
           {{"berths", "--line", "x", "--where", "berth = 4"}, "lines are given"},
           {{"berths", "--where", "berth = "}, "  berth = \n          ^"},
           {{"berth", "--config", configuration, "--line", "x"}, "did you mean `berths`"}}) {
    std::vector<std::string> all{"rehearse"};
    all.insert(all.end(), arguments.begin(), arguments.end());
    const Ran ran = daemon.dingle(all);
    EXPECT_NE(ran.status, 0);
    EXPECT_NE(ran.err.find(said), std::string::npos) << said << ": " << ran.err << ran.out;
  }
}

TEST_F(Rehearse, BeginsWithACopyOfWhatIsRemembered) {
  std::string text = read_file(daemon.dir + "/dingle.yaml");
  text.replace(text.find("to: [store]"), 11,
               "to: [store]\n  calls: { from: [berths], steps: [fold: { by: [ship], window: 1h, "
               "longest: 10h, grace: 10h, values: { berths: sum(berth) } }], to: [store] }");
  std::ofstream(daemon.dir + "/dingle.yaml") << text;
  daemon.start();
  daemon.write("quay.log", kFerryLines);
  daemon.settled();
  const std::string line = "2026-11-23T10:30:00Z Tern 7 docked";
  const auto berths = [&](const std::vector<std::string>& more) {
    std::vector<std::string> all{"calls", "--line", line};
    all.insert(all.end(), more.begin(), more.end());
    std::string sums;
    const Json pipeline = rehearse(all, 0);
    for (const Json& event : pipeline["events"])
      for (const Json& field : event.value("fields", Json::array()))
        if (field["field"] == "berths" && event.contains("made_by")) sums += field["value"].dump() + " ";
    return sums;
  };
  EXPECT_EQ(berths({}), "7 ");
  EXPECT_EQ(berths({"--remember"}), "11 ");
  EXPECT_EQ(berths({"--remember"}), "11 ");  // it was a copy
}

TEST_F(Rehearse, SamplesThatAreExpectedToComeOutAsBefore) {
  const std::string configuration = daemon.dir + "/dingle.yaml", samples = daemon.dir + "/samples";
  const auto check = [&](const std::vector<std::string>& more) {
    std::vector<std::string> all{"check", configuration, "--samples", samples};
    all.insert(all.end(), more.begin(), more.end());
    return daemon.dingle(all);
  };
  EXPECT_EQ(check({}).status, 1);  // there is no such folder
  std::filesystem::create_directories(samples + "/berths");
  EXPECT_NE(check({}).out.find("there are no samples"), std::string::npos);
  std::ofstream(samples + "/berths/night.log") << kFerryLines;
  EXPECT_NE(check({}).out.find("night.ndjson: is not there"), std::string::npos);
  const Ran written = check({"--write"});
  EXPECT_EQ(written.status, 0) << written.out << written.err;
  EXPECT_NE(written.out.find("written: 1 sample, 3 events"), std::string::npos) << written.out;
  EXPECT_NE(check({}).out.find("as expected: 1 sample, 3 events"), std::string::npos);
  std::string text = read_file(configuration);
  text.replace(text.find("{berth:int}"), 11, "{berth:word}");
  text.replace(text.find("state = 'free'"), 14, "state = 'gone'");
  std::ofstream(configuration) << text;
  const Ran differs = check({});
  EXPECT_EQ(differs.status, 1);
  EXPECT_NE(differs.out.find("night.log:1: berth: expected 4, found \"4\"\n"), std::string::npos)
      << differs.out;
  EXPECT_NE(differs.out.find("night.log:2: outcome: expected \"dropped\", found \"goes_on\"\n"),
            std::string::npos)
      << differs.out;
  const Json rows = Json::parse(check({"-o", "json"}).out);
  EXPECT_EQ(rows.at(1)["line"], 1) << rows;
  std::filesystem::create_directories(samples + "/berth");
  EXPECT_NE(check({}).out.find("there is no pipeline `berth`; did you mean `berths`"), std::string::npos);
}

TEST_F(Rehearse, TwoConfigurationsSideBySide) {
  daemon.start();
  daemon.write("quay.log", kFerryLines);
  daemon.settled();
  std::string changed = read_file(daemon.dir + "/dingle.yaml");
  const auto replace = [&](const std::string& from, const std::string& to) {
    changed.replace(changed.find(from), from.size(), to);
  };
  replace("{berth:int}", "{place:word}");
  replace("state = 'free'", "state = 'docked'");
  const std::string file = daemon.dir + "/changed.yaml";
  std::ofstream(file) << changed;
  const Ran people = daemon.dingle({"rehearse", "berths", "--config", file, "--against", "running"});
  EXPECT_EQ(people.status, 1) << people.err;
  EXPECT_TRUE(people.out.starts_with("2 lines fare differently: 4 lines went both ways")) << people.out;
  EXPECT_NE(people.out.find("berths: goes on → dropped (step 3)"), std::string::npos) << people.out;
  const Ran ran =
      daemon.dingle({"rehearse", "berths", "--config", file, "--against", "running", "-o", "json"});
  const Json all = Json::parse(ran.out);
  ASSERT_EQ(all.size(), 2u) << ran.out;
  std::map<std::string, Json> fields;
  for (const Json& d : all[0]["differences"])
    if (d["what"] == "field") fields[d["field"]] = d;
  EXPECT_EQ(fields["berth"]["before"], (Json{{"type", "int"}, {"value", 4}}));
  EXPECT_EQ(fields["berth"]["after"], nullptr);
  EXPECT_EQ(fields["place"]["after"]["value"], "4");
  // Without a server, and with itself: nothing differs.
  const Ran same = run_program({std::string(DINGLE_BINARIES) + "/dingle", "rehearse", "berths",
                                daemon.path("quay.log"), "--config", file, "--against", file});
  EXPECT_EQ(same.status, 0) << same.out << same.err;
  EXPECT_TRUE(same.out.starts_with("the same: 4 lines went both ways")) << same.out;
}

}  // namespace
}  // namespace dingle
