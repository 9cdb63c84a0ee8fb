// Lines, requests and settings that mean harm, or look like it.
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>

#include "tests/end_to_end/daemon.h"

namespace dingle {
namespace {

const char* kJson = R"(
sources:
  api: { files: { paths: ['{dir}/logs/*.log'] } }
pipelines:
  api: { from: [api], steps: [ { json: {} } ], to: [store] }
destinations:
  store: { index: { name: api } }
)";

TEST(Hostile, DeepJsonEndsNothing) {
  Daemon daemon(kJson);
  const std::string deep(60'000, '['), closed(60'000, ']');
  daemon.write("a.log", "{\"n\":1}\n{\"v\":" + deep + "\n{\"v\":" + deep + closed + "}\n{\"n\":2}\n");
  daemon.start();
  daemon.settled();
  const auto events = daemon.events();
  ASSERT_EQ(events.size(), 4u);
  EXPECT_EQ(events[0]["n"], 1);
  EXPECT_EQ(events[3]["n"], 2);
  EXPECT_EQ(events[2]["dingle.unmatched"], "json: it is nested deeper than 128 levels");
}

TEST(Hostile, ALineCannotForgeWhatTheEventSays) {
  Daemon daemon(kJson);
  daemon.write(
      "a.log",
      R"({"timestamp":5,"body":"forged","observed_timestamp":"x","dingle.pipeline":"other","log.file.path":"/etc/passwd","ship":"Tern"})"
      "\n");
  daemon.start();
  daemon.settled();
  const auto events = daemon.events();
  ASSERT_EQ(events.size(), 1u);
  EXPECT_NE(events[0]["body"], "forged");
  EXPECT_EQ(events[0]["dingle.pipeline"], "api");
  EXPECT_EQ(events[0]["log.file.path"], daemon.path("a.log"));
  EXPECT_EQ(events[0]["line.log.file.path"], "/etc/passwd");
  EXPECT_EQ(events[0]["line.timestamp"], 5);
  for (const std::vector<std::string>& command : std::vector<std::vector<std::string>>{
           {"search"}, {"search", "--full"}, {"values", "ship"}, {"timeline"}, {"search", "-o", "csv"}}) {
    const Ran ran = daemon.dingle(command);
    EXPECT_EQ(ran.status, 0) << command[0] << ran.err;
    EXPECT_NE(ran.out, "") << command[0];
  }
}

// Whatever crashes the program does so twice at most. The library under test crashes on a word.
TEST(Hostile, ALineOnWhichTheProgramDiesIsSetApart) {
  Daemon daemon(R"(
sources:
  gate: { files: { paths: ['{dir}/logs/*.log'] } }
pipelines:
  gate: { from: [gate], steps: [ { parse: { templates: ['{word:/[a-z]+/}'] } } ], to: [store] }
destinations:
  store: { index: { name: gate } }
)");
  daemon.environment = {{"LD_PRELOAD", std::string(DINGLE_BINARIES) + "/libdingle_faults.so"},
                        {"DINGLE_POISON", "deadly"}};
  daemon.write("a.log", "tern\nauk\n");
  daemon.start();
  daemon.settled();
  daemon.write("a.log", "deadly\n");
  for (int i = 0; i < 2; ++i) {
    EXPECT_NE(daemon.wait_for_death(), 0) << i;
    daemon.start_whatever_comes();
  }
  daemon.write("a.log", "gull\n");
  const Json status = daemon.settled();
  EXPECT_EQ(status["sources"][0]["set_apart"], 1) << status.dump(1);
  EXPECT_EQ(status["sources"][0]["events"], 4);
  EXPECT_NE(daemon.problem("ended twice").find("/set-apart/"), std::string::npos);
  EXPECT_EQ(daemon.events().size(), 3u);
  EXPECT_NE(daemon.dingle({"status"}).out.find("ended twice"), std::string::npos);
  daemon.terminate();
  daemon.start();
  EXPECT_NE(daemon.problem("/set-apart/").find("/set-apart/"), std::string::npos)
      << "said until somebody looked";
}

TEST(Hostile, AnEmptySecretOpensNoDoor) {
  for (const char* token :
       {"{ env: DINGLE_TEST_EMPTY }", "{ file: '{dir}/empty' }", "{ file: '{dir}/newline' }"}) {
    const int port = free_port();
    Daemon daemon("sources:\n  api: { http: { listen: '127.0.0.1:" + std::to_string(port) +
                  "', token: " + token +
                  " } }\npipelines:\n  api: { from: [api], to: [store] }\ndestinations:\n  store: { index: { "
                  "name: a } }\n");
    std::ofstream(daemon.dir + "/empty");
    std::ofstream(daemon.dir + "/newline") << "\n";
    daemon.environment = {{"DINGLE_TEST_EMPTY", ""}};
    daemon.start();
    EXPECT_NE(daemon.problem("empty").find("is empty"), std::string::npos) << token;
    for (const char* header : {"Authorization: Bearer ", "Authorization: Bearer x", "X: y"})
      EXPECT_NE(run_program({"/usr/bin/curl", "-s", "-o", "/dev/null", "-H", header, "-d", "line",
                             "http://127.0.0.1:" + std::to_string(port) + "/lines"})
                    .status,
                0)
          << "nothing listens";
    EXPECT_EQ(daemon.status()["sources"][0].value("events", 0), 0);
  }
}

TEST(Hostile, ALimitThatIsTooLargeIsSaid) {
  Daemon daemon(kJson);
  daemon.write("a.log", "{\"n\":1}\n");
  daemon.start();
  daemon.settled();
  const Ran ran = daemon.dingle({"search", "--limit", "100000"});
  EXPECT_NE(ran.status, 0);
  EXPECT_NE(ran.err.find("at most 10000"), std::string::npos) << ran.err;
}

TEST(Hostile, FewBytesThatAreManyEventsAreRefused) {
  const int port = free_port();
  Daemon daemon("sources:\n  api: { http: { listen: '127.0.0.1:" + std::to_string(port) +
                "' } }\npipelines:\n  api: { from: [api], to: [store] }\ndestinations:\n  store: { index: { "
                "name: a } }\n");
  daemon.start();
  std::string lines;
  for (int i = 0; i < 2'000'000; ++i) lines += "x\n";
  std::ofstream(daemon.dir + "/bomb") << lines;
  ASSERT_EQ(run_program({"/bin/gzip", daemon.dir + "/bomb"}).status, 0);
  const Ran ran = run_program({"/usr/bin/curl", "-s", "-w", "%{http_code}", "-H", "Content-Encoding: gzip",
                               "--data-binary", "@" + daemon.dir + "/bomb.gz",
                               "http://127.0.0.1:" + std::to_string(port) + "/"});
  EXPECT_NE(ran.out.find("413"), std::string::npos) << ran.out;
  EXPECT_EQ(daemon.status()["sources"][0]["refused"], 1);
}

TEST(Hostile, AnEventAtTheEndOfTimeHidesNoOther) {
  Daemon daemon(R"(
sources:
  gate: { files: { paths: ['{dir}/logs/*.log'] } }
pipelines:
  gate: { from: [gate], steps: [ { json: {} }, { time: { field: t } } ], to: [store] }
destinations:
  store: { index: { name: '{dingle.pipeline}' } }
)");
  daemon.write(
      "a.log",
      "{\"t\":9223372036854775807}\n{\"t\":\"2026-11-23T10:00:00Z\"}\n{\"t\":\"1700-01-01T00:00:00Z\"}\n");
  daemon.start();
  daemon.settled();
  const Ran all = daemon.dingle({"timeline", "-o", "json"});
  EXPECT_EQ(all.status, 0) << all.err;
  int counted = 0;
  for (const Json& row : Json::parse(all.out, nullptr, false)) counted += row["count"].get<int>();
  EXPECT_EQ(counted, 3) << all.out;
  const Ran range =
      daemon.dingle({"timeline", "--from", "1678-01-01", "--to", "2261-01-01", "--bucket", "1h"});
  EXPECT_NE(range.err.find("50000 buckets"), std::string::npos) << range.out << range.err;
  EXPECT_NE(daemon.dingle({"indexes"}).out.find("gate"), std::string::npos) << "named by its pipeline";
}

TEST(Hostile, FoldersFilesAndAddressesThatAreOpenToOthers) {
  Daemon daemon(kJson);
  std::filesystem::create_directories(daemon.dir + "/data");
  std::filesystem::permissions(daemon.dir + "/data", std::filesystem::perms(0777));
  const std::vector<std::string> command{daemon_program(), "--config", daemon.dir + "/dingle.yaml"};
  Ran ran = run_program(command);
  EXPECT_EQ(ran.status, 1);
  EXPECT_NE(ran.err.find("others may write"), std::string::npos) << ran.err;
  std::filesystem::permissions(daemon.dir + "/data", std::filesystem::perms(0700));
  std::vector<std::string> open = command;
  open.insert(open.end(), {"--listen", "0.0.0.0:0"});
  ran = run_program(open);
  EXPECT_EQ(ran.status, 1);
  EXPECT_NE(ran.err.find("needs `tls`"), std::string::npos) << ran.err;
}

}  // namespace
}  // namespace dingle
