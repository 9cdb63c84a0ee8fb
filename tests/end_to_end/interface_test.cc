// The programs as people and scripts use them.
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/stat.h>

#include <atomic>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <thread>

#include "net/http.h"
#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"
#include "tests/end_to_end/gate.h"
#include "tests/net/raw_client.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

const std::string kDingle = std::string(DINGLE_BINARIES) + "/dingle";

// An empty folder of the test's own.
std::string fresh_folder(const std::string& name) {
  const std::string folder = testing::TempDir() + "/dingle-" + std::to_string(::getpid()) + "-" + name;
  std::filesystem::remove_all(folder);
  std::filesystem::create_directories(folder);
  return folder;
}

TEST(Check, FiveMistakesInOneRunWithTheirPlaces) {
  const std::string text =
      "version: 1\n"
      "sources:\n"
      "  gate: { flies: { paths: [/var/log/gate.log] } }\n"
      "pipelines:\n"
      "  gate:\n"
      "    from: [gate]\n"
      "    steps:\n"
      "      - parse: { templates: ['{client.address:ip} {status:itn}'] }\n"
      "      - drop: { where: \"status == 200\" }\n"
      "    to: [opreations]\n"
      "destinations:\n"
      "  operations: { index: { keep: { age: 30 } } }\n";
  Ran ran = run_program({kDingle, "check", "-", "-o", "json"}, text);
  EXPECT_EQ(ran.status, 1);
  std::vector<std::string> errors;
  for (const Json& f : Json::parse(ran.out))
    if (f["severity"] == "error")
      errors.push_back(std::to_string(f["line"].get<int>()) + ":" + std::to_string(f["column"].get<int>()) +
                       " " + f["hint"].get<std::string>().substr(0, 30));
  EXPECT_EQ(errors,
            (std::vector<std::string>{"3:11 did you mean `files`?", "8:59 did you mean `int`?",
                                      "9:32 SQL compares with a single =", "10:10 did you mean `operations`?",
                                      "12:39 units: ns, us, ms, s, m, h, d,"}));
  ran = run_program({kDingle, "check", "-"}, text);
  EXPECT_NE(
      ran.out.find(
          "\n  9 |       - drop: { where: \"status == 200\" }\n    |                                ^~\n"),
      std::string::npos)
      << ran.out;
  EXPECT_NE(ran.out.find("5 errors"), std::string::npos);
}

TEST(Check, ShippedConfigurationIsSound) {
  EXPECT_EQ(run_program({kDingle, "check", std::string(DINGLE_SOURCE) + "/demo/dingle.yaml"}).status, 0);
  EXPECT_EQ(run_program({kDingle, "check", "/nowhere.yaml"}).status, 1);
  EXPECT_EQ(run_program({kDingle, "chekc"}).status, 2);
}

TEST(Help, NamesTheNearestCommandAndOption) {
  const auto said = [](std::vector<std::string> arguments) {
    arguments.insert(arguments.begin(), kDingle);
    const Ran ran = run_program(arguments);
    EXPECT_EQ(ran.status, 2);
    return ran.out + ran.err;
  };
  EXPECT_NE(said({"stauts"}).find("did you mean `status`"), std::string::npos) << said({"stauts"});
  EXPECT_NE(said({"search", "--limt", "3"}).find("did you mean `--limit`"), std::string::npos);
  EXPECT_NE(said({"--sever", "x", "status"}).find("did you mean `--server`"), std::string::npos);
  EXPECT_NE(run_program({kDingle, "--help"}).out.find("Exit status: 0"), std::string::npos);
}

TEST(Try, PointsAtTheColumn) {
  Ran ran = run_program({kDingle, "try", "{client.address:ip} [{status:int}] {message}"},
                        "192.0.2.7 [200] fine\n192.0.2.7 [OK] not\n");
  EXPECT_EQ(ran.status, 1);
  EXPECT_NE(
      ran.out.find(
          "  192.0.2.7 [OK] not\n             ^ column 12: expected a whole number, found \"OK] not\"\n"),
      std::string::npos)
      << ran.out;
  EXPECT_NE(ran.out.find("status          int        200"), std::string::npos) << ran.out;
  ran = run_program({kDingle, "try", "{a:int}", "-o", "ndjson"}, "5\nx\n");
  const std::size_t end = ran.out.find('\n');
  const Json first = Json::parse(ran.out.substr(0, end)), second = Json::parse(ran.out.substr(end + 1));
  EXPECT_EQ(first["fields"]["a"], 5);
  EXPECT_EQ(second["matched"], false);
  EXPECT_EQ(second["column"], 1);
  EXPECT_EQ(second["expected"][0], "a whole number");
  EXPECT_EQ(second["others"][0]["pattern"], "word");
  EXPECT_EQ(run_program({kDingle, "try", "{a:itn}"}, "5\n").status, 1);
}

TEST(Try, SeveralTemplatesFailingLinesFirstAndASummary) {
  const Ran ran =
      run_program({kDingle, "try", "{a:int} x", "--also", "{a:int} {b:word}", "-"}, "1 x\n2 y\n3 y z\n");
  EXPECT_EQ(ran.status, 1);
  EXPECT_LT(ran.out.find("line 3 does not match"), ran.out.find("line 1 matches template 1")) << ran.out;
  EXPECT_NE(ran.out.find("line 2 matches template 2"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("2 matched, 1 did not (66.7 %)"), std::string::npos) << ran.out;
  const Json summary =
      Json::parse(run_program({kDingle, "try", "{a:int}", "--summary", "-o", "json"}, "1\n1\nx\n").out);
  EXPECT_EQ(summary["matched"], 2);
  EXPECT_EQ(summary["fields"][0]["values"][0], (Json{{"value", "1"}, {"lines", 2}}));
}

TEST(Try, RunsAgainWhenAFileChanges) {
  const std::string folder = fresh_folder("try-watch");
  std::ofstream(folder + "/t") << "{a:int}\n";
  std::ofstream(folder + "/lines") << "x1\n";
  const std::string output = folder + "/output";
  const int pid = start_program(
      {kDingle, "try", "--templates", folder + "/t", folder + "/lines", "--watch", "--summary"}, output);
  const auto says = [&](const char* text) { return read_file(output).find(text) != std::string::npos; };
  EXPECT_TRUE(eventually([&] { return says("0 matched, 1 did not"); })) << read_file(output);
  std::ofstream(folder + "/t") << "{a:word}\n";
  EXPECT_TRUE(eventually([&] { return says("1 matched, 0 did not"); })) << read_file(output);
  end_program(pid, SIGTERM);
}

TEST(Draft, CanBePastedIntoAConfiguration) {
  for (const char* sample : {"berthing", "crane-ctl", "customs-ids", "manifest-api", "radio-bridge",
                             "ticket-gate", "tide-gauge"}) {
    const std::string file = std::string(DINGLE_SOURCE) + "/demo/samples/" + sample + ".log";
    const Json draft = Json::parse(run_program({kDingle, "draft", file, "-o", "json"}).out);
    std::string steps;
    std::istringstream yaml(draft["yaml"].get<std::string>());
    for (std::string line; std::getline(yaml, line);) steps += "    " + line + "\n";
    const std::string folder = fresh_folder(std::string("draft-") + sample);
    std::ofstream(folder + "/c.yaml")
        << "version: 1\nserver: { data: " << folder << "/data }\nsources: { s: { files: { paths: [" << file
        << "] } } }\npipelines:\n  p:\n    from: [s]\n    to: [d]\n"
        << steps << "destinations: { d: { nowhere: {} } }\n";
    const Ran ran = run_program({kDingle, "check", folder + "/c.yaml"});
    EXPECT_EQ(ran.status, 0) << sample << "\n" << ran.out << ran.err;
  }
}

TEST(Explain, TellsWhichPartNeedsTheRegexEngine) {
  const Ran ran = run_program({kDingle, "explain", "{a:int} {b:/x+/}"});
  EXPECT_EQ(ran.status, 0);
  EXPECT_NE(ran.out.find("typed scanner, inlined"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("1 part needs the regex engine"), std::string::npos) << ran.out;
}

TEST(Help, OfEveryCommandHasAnExample) {
  for (const char* command : {"check", "try", "status", "search", "values", "timeline", "watch", "indexes",
                              "reload", "patterns", "schema", "draft", "unmatched", "explain", "jobs"}) {
    Ran ran = run_program({kDingle, command, "--help"});
    EXPECT_EQ(ran.status, 0) << command;
    EXPECT_NE(ran.out.find("Example:"), std::string::npos) << command;
  }
}

TEST(Help, ExamplesOfCommandsWithinCommandsAreTheirOwn) {
  for (const auto& [outer, inner] : std::vector<std::pair<std::string, std::string>>{{"letters", "show"},
                                                                                     {"letters", "resend"},
                                                                                     {"letters", "discard"},
                                                                                     {"indexes", "delete"},
                                                                                     {"jobs", "show"},
                                                                                     {"jobs", "follow"},
                                                                                     {"jobs", "stop"},
                                                                                     {"jobs", "resume"},
                                                                                     {"spool", "verify"},
                                                                                     {"spool", "repair"}}) {
    const Ran ran = run_program({kDingle, outer, inner, "--help"});
    EXPECT_NE(ran.out.find("dingle " + outer + " " + inner + " ", ran.out.find("Example:")),
              std::string::npos)
        << ran.out;
  }
}

TEST(Unmatched, ByShapeWithReasonAndDraft) {
  Daemon daemon(kStoredGate);
  daemon.write("g.log", "192.0.2.7 200 fine\n192.0.2.7 OK 17 ms\n192.0.2.8 OK 3 ms\nnothing of the kind\n");
  daemon.start();
  daemon.settled();
  const Ran ran = daemon.dingle({"unmatched", "gate"});
  EXPECT_EQ(ran.status, 1);
  EXPECT_NE(ran.out.find("2 lines"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("column 11: expected a whole number, found \"OK 17 ms\""), std::string::npos)
      << ran.out;
  EXPECT_NE(ran.out.find("draft: {client.address:ip} OK {duration:duration}"), std::string::npos) << ran.out;
  EXPECT_NE(daemon.dingle({"unmatched", "gaet"}).err.find("there is no pipeline `gaet`"), std::string::npos);
  // The newest lines of a running source, tried.
  const Ran tried = daemon.dingle({"try", "{client.address:ip} {:rest}", "--source", "gate", "--summary"});
  EXPECT_NE(tried.out.find("3 matched, 1 did not"), std::string::npos) << tried.out << tried.err;
}

TEST(Api, TriesAndDraftsTemplates) {
  Daemon daemon(kStoredGate);
  daemon.start();
  Caller http("http://" + daemon.address());
  http.target.bearer = daemon.token();
  auto post = [&](const char* path, const Json& body) {
    const HttpReply answer = http.post(path, body.dump(), "application/json");
    return std::pair(answer.status, Json::parse(answer.body));
  };
  const auto [status, tried] = post("/v1/try", {{"templates", {"{a:int}"}}, {"lines", {"7", "x"}}});
  EXPECT_EQ(status, 200);
  EXPECT_EQ(tried["summary"]["matched"], 1);
  EXPECT_EQ(tried["lines"][1]["column"], 1);
  EXPECT_EQ(post("/v1/try", {{"templates", {"{a:itn}"}}, {"lines", {"7"}}}).second["problems"][0]["hint"],
            "did you mean `int`?");
  EXPECT_EQ(post("/v1/try", {{"lines", {"7"}}}).first, 400);
  EXPECT_EQ(
      post("/v1/draft", {{"lines", {"berth 7 free", "berth 9 free"}}}).second["templates"][0]["template"],
      "berth {berth:int} free");
}

TEST(Api, NeedsTheToken) {
  Daemon daemon(kStoredGate);
  daemon.start();
  Caller http("http://" + daemon.address());
  EXPECT_EQ(http.get("/healthz").status, 200);
  EXPECT_EQ(http.get("/v1/status").status, 401);
  EXPECT_EQ(http.get("/metrics").status, 401);
  http.target.bearer = "wrong";
  EXPECT_EQ(http.get("/v1/status").status, 401);
  http.target.bearer = daemon.token();
  EXPECT_EQ(http.get("/v1/status").status, 200);
  struct stat info;
  ASSERT_EQ(::stat((daemon.dir + "/data/token").c_str(), &info), 0);
  EXPECT_EQ(info.st_mode & 0777, 0600u);
  EXPECT_EQ(http.get("/v1/statsu").status, 404);
  EXPECT_NE(http.get("/v1/statsu").body.find("did you mean `/v1/status`"), std::string::npos);
  EXPECT_EQ(http.post("/v1/status", "").status, 405);
  EXPECT_EQ(http.get("/v1/events?limti=5").status, 400);
  EXPECT_EQ(http.get("/v1/events?where=a%20%3D%3D%201").status, 400);
  EXPECT_EQ(http.get("/v1/events?from=soon").status, 400);
  EXPECT_EQ(http.get("/v1/openapi.json").status, 200);
  const std::string long_question = "where=" + std::string(100, '(') + "body = 'x'" + std::string(100, ')');
  std::string all = long_question;
  for (int i = 0; i < 200; ++i) all += " OR " + long_question.substr(6);
  EXPECT_EQ(http.get("/v1/events?" + percent_encoded(all)).status, 431);
  const HttpReply refused = http.post("/v1/events", all);
  EXPECT_EQ(refused.status, 415) << refused.body;
  EXPECT_EQ(Json::parse(refused.body)["title"], "Unsupported Media Type");
  for (const char* path : {"/v1/events", "/v1/values", "/v1/timeline"}) {
    const std::string field = path == std::string("/v1/values") ? "&field=body" : "";
    const HttpReply asked =
        http.post(path, "where=body+%3D+'x'" + field, "application/x-www-form-urlencoded");
    EXPECT_EQ(asked.status, 200) << asked.body;
  }
  RawClient watcher(daemon.address());
  watcher.send(
      "POST /v1/watch HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer " + daemon.token() +
      "\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: 12\r\n\r\nwhere=n+%3D1");
  EXPECT_EQ(watcher.until("\r\n"), "HTTP/1.1 200 OK\r\n");
  const Ran search = daemon.dingle({"search", all.substr(6, 15'000) + "'x'"});
  EXPECT_EQ(search.err.find("no dingled"), std::string::npos);
  EXPECT_EQ(daemon.dingle({"watch", all.substr(6, 15'000) + "'x'"}).err, search.err);
}

TEST(Api, MetricsInBothFormats) {
  Daemon daemon(kStoredGate);
  daemon.write("a.log", "192.0.2.1 200 x\nbad\n");
  daemon.start();
  daemon.settled();
  Caller http("http://" + daemon.address());
  http.target.bearer = daemon.token();
  const HttpReply old = http.get("/metrics");
  EXPECT_NE(old.body.find(
                "# TYPE dingle_source_lines_total counter\ndingle_source_lines_total{source=\"gate\"} 2\n"),
            std::string::npos)
      << old.body;
  const HttpReply open = http.get("/metrics", {{"Accept", "application/openmetrics-text; version=1.0.0"}});
  EXPECT_NE(
      open.body.find("# TYPE dingle_source_lines counter\ndingle_source_lines_total{source=\"gate\"} 2\n"),
      std::string::npos);
  EXPECT_TRUE(open.body.ends_with("# EOF\n"));
  EXPECT_NE(open.header("Content-Type").find("openmetrics"), std::string::npos);
}

TEST(Watch, ShowsEventsAsTheyArrive) {
  Daemon daemon(kStoredGate);
  daemon.start();
  std::atomic<bool> shown{false};
  std::thread writer([&] {
    for (int i = 0; i < 300 && !shown; ++i, std::this_thread::sleep_for(100ms))
      daemon.write("a.log", "192.0.2.1 200 no\n192.0.2.2 503 yes\n");
  });
  Ran ran = daemon.dingle({"watch", "status >= 500", "--limit", "2", "-o", "ndjson"});
  shown = true;
  writer.join();
  EXPECT_EQ(ran.status, 0) << ran.err;
  const Json event = Json::parse(ran.out.substr(0, ran.out.find('\n')));
  EXPECT_EQ(event["status"], 503);
  EXPECT_EQ(event["service.name"], "ticket-gate");
  EXPECT_EQ(daemon.dingle({"watch", "--pipeline", "gaet"}).status, 1);
}

TEST(Client, GoesOnWhereAPageEnded) {
  Daemon daemon(kStoredGate);
  std::string lines;
  for (int n = 0; n < 50; ++n) lines += "192.0.2.1 200 e" + std::to_string(n) + "\n";
  lines += "192.0.2.1 500 =1+1\n";
  daemon.write("a.log", lines);  // all have one time
  daemon.start();
  daemon.settled();
  for (const bool oldest : {false, true}) {
    std::vector<std::string> messages;
    std::string after;
    for (int pages = 0; pages < 9; ++pages) {
      std::vector<std::string> arguments{"search",   "status = 200", "--limit", "7",
                                         "--fields", "message",      "-o",      "ndjson"};
      if (oldest) arguments.push_back("--oldest");
      if (!after.empty()) arguments.insert(arguments.end(), {"--after", after});
      const Ran page = daemon.dingle(arguments);
      std::istringstream in(page.out);
      for (std::string line; std::getline(in, line);) messages.push_back(Json::parse(line)["message"]);
      const std::size_t at = page.err.find("--after ");
      if (at == std::string::npos) break;
      after = page.err.substr(at + 8, page.err.find('\n', at) - at - 8);
    }
    std::vector<std::string> expected;
    for (int n = 0; n < 50; ++n) expected.push_back("e" + std::to_string(oldest ? n : 49 - n));
    EXPECT_EQ(messages, expected);
  }
  EXPECT_NE(
      daemon.dingle({"search", "--limit", "7"}).out.find("newest 7 shown, and there are more: --after "),
      std::string::npos);
  const Ran all = daemon.dingle(
      {"search", "status = 200", "--all", "--oldest", "-o", "csv", "--fields", "message,status"});
  EXPECT_TRUE(all.out.starts_with("message,status\r\ne0,200\r\ne1,200\r\n")) << all.out;
  EXPECT_EQ(std::count(all.out.begin(), all.out.end(), '\n'), 51);
  EXPECT_EQ(all.err, "50 events, all that there are\n");
  EXPECT_EQ(all.status, 0);
  EXPECT_EQ(
      daemon.dingle({"search", "status = 500", "--all", "--defuse", "-o", "csv", "--fields", "message"}).out,
      "message\r\n'=1+1\r\n");
  EXPECT_EQ(daemon.dingle({"search", "status = 500", "--all", "-o", "ndjson", "--fields", "message"}).out,
            "{\"message\":\"=1+1\"}\n");
  EXPECT_NE(daemon.dingle({"search", "--all", "-o", "csv", "--fields", "message,mesage"})
                .err.find("none of these events has a field `mesage`"),
            std::string::npos);
  EXPECT_EQ(daemon.dingle({"search", "--all"}).status, 2);
  EXPECT_NE(daemon.dingle({"search", "--all", "-o", "csv"}).err.find("CSV needs its columns"),
            std::string::npos);
  EXPECT_NE(daemon.dingle({"search", "--after", "x"}).err.find("`after` is no place of an event"),
            std::string::npos);
}

TEST(Client, ExportsPageAfterPage) {
  constexpr int kMany = 21'000;  // three pages
  Daemon daemon(kStoredGate);
  std::string lines;
  for (int n = 0; n < kMany; ++n) lines += "192.0.2.1 200 e" + std::to_string(n) + "\n";
  daemon.write("a.log", lines);
  daemon.start();
  daemon.settled();
  for (const bool fields : {false, true}) {
    std::vector<std::string> asked{"search", "--all", "--oldest", "-o", "ndjson"};
    if (fields) asked.insert(asked.end(), {"--fields", "message"});
    const Ran all = daemon.dingle(asked);
    EXPECT_EQ(all.err, "21 000 events, all that there are\n");
    std::istringstream in(all.out);
    int n = 0;
    for (std::string line; std::getline(in, line); ++n)
      ASSERT_EQ(Json::parse(line)["message"], "e" + std::to_string(n)) << line;
    EXPECT_EQ(n, kMany);
  }
}

TEST(Client, OutputFormsAndErrors) {
  Daemon daemon(kStoredGate);
  daemon.write("a.log", "192.0.2.1 200 \"quoted\", yes\n192.0.2.2 500 x\n192.0.2.2 500 y\nbad\n");
  daemon.start();
  daemon.settled();
  EXPECT_EQ(daemon.dingle({"search", "status = 200", "--fields", "status,message", "-o", "csv"}).out,
            "status,message\r\n200,\"\"\"quoted\"\", yes\"\r\n");
  EXPECT_EQ(Json::parse(daemon.dingle({"values", "status", "-o", "json"}).out),
            Json::parse(R"([{"value":500,"count":2},{"value":200,"count":1}])"));
  EXPECT_NE(daemon.dingle({"timeline", "--by", "status", "--bucket", "1h"}).out.find("events per 1h"),
            std::string::npos);
  Ran days = daemon.dingle({"timeline", "--bucket", "1d", "--zone", "Asia/Kathmandu", "-o", "json"});
  EXPECT_NE(days.out.find("T18:15:00Z\""), std::string::npos) << days.out << days.err;  // its midnight
  days = daemon.dingle({"timeline", "--bucket", "1d", "--zone", "Asia/Kathmandu"});
  EXPECT_NE(days.out.find("events per 1d, event time in Asia/Kathmandu\n"), std::string::npos) << days.out;
  Ran bad = daemon.dingle({"search", "status == 1"});
  EXPECT_EQ(bad.status, 1);
  EXPECT_EQ(bad.err,
            "dingle: expected a comparison, found `==`\n  status == 1\n         ^~\n  = SQL compares with a "
            "single =\n");
  EXPECT_EQ(daemon.dingle({"search", "--output", "xml"}).status, 2);
  EXPECT_EQ(daemon.dingle({"indexes", "delete", "nothing"}).status, 1);
  const auto unmatched = daemon.events("dingle.unmatched is not null");
  ASSERT_EQ(unmatched.size(), 1u);
  EXPECT_EQ(unmatched[0]["dingle.unmatched"], "expected an IP address");
  daemon.terminate();
  EXPECT_EQ(daemon.dingle({"watch", "-o", "csv"}).status, 2);
  Ran gone = daemon.dingle({"status"});
  EXPECT_EQ(gone.status, 1);
  EXPECT_NE(gone.err.find("no dingled answers"), std::string::npos) << gone.err;
}

// The time ends now, so that silence is seen; what is a part of a bucket says so.
TEST(Timeline, ShowsSilenceAndParts) {
  Daemon daemon(R"(
sources: { gate: { files: { paths: ['{dir}/logs/*.log'] } } }
pipelines: { gate: { from: [gate], steps: [ json: {}, time: { field: t } ], to: [store] } }
destinations: { store: { index: {} } }
)");
  daemon.write("a.log",
               "{\"t\":\"2026-11-23T10:00:10Z\",\"s\":1}\n{\"t\":\"2026-11-23T10:03:20Z\",\"s\":2}\n"
               "{\"t\":\"1971-01-01T00:00:00Z\"}\n");
  daemon.start();
  daemon.settled();
  const auto rows = [&](std::vector<std::string> more) {
    more.insert(more.begin(), {"timeline", "-o", "json"});
    return Json::parse(daemon.dingle(more).out);
  };
  const Json asked =
      rows({"--bucket", "1m", "--from", "2026-11-23T10:00:10Z", "--to", "2026-11-23T10:05:30Z"});
  std::string shown;
  for (const Json& row : asked) shown += row["count"].dump() + (row.value("partial", false) ? "~ " : " ");
  EXPECT_EQ(shown, "1~ 0 0 1 0 0~ ") << asked;
  const Json split =
      rows({"--bucket", "1m", "--from", "2026-11-23T10:00:10Z", "--to", "2026-11-23T10:02:00Z", "--by", "s"});
  EXPECT_EQ(split, Json::parse(R"([{"time":"2026-11-23T10:00:00Z","partial":true,"s":1,"count":1},
                                   {"time":"2026-11-23T10:01:00Z","count":0}])"));
  const Ran late = daemon.dingle({"timeline", "--bucket", "1m"});
  EXPECT_NE(late.out.find("earlier events are left out: name --from"), std::string::npos) << late.out;
  EXPECT_NE(late.out.find("buckets, until now"), std::string::npos) << late.out;
  const Json runs = rows({"--bucket", "1m"});
  ASSERT_EQ(runs.size(), 5u) << runs;  // the silence before is one row
  EXPECT_EQ(runs[0]["until"], "2026-11-23T10:00:00Z") << runs;
}

TEST(Start, RefusesASecondOneOnTheSameData) {
  Daemon daemon(kStoredGate);
  daemon.start();
  Ran second = run_program({daemon_program(), "--config", daemon.dir + "/dingle.yaml"});
  EXPECT_EQ(second.status, 1);
  EXPECT_NE(second.err.find("in use by another process"), std::string::npos) << second.err;
}

TEST(Demo, SevenServicesAndOneTraceIdAcrossThem) {
  std::string text = read_file(std::string(DINGLE_SOURCE) + "/demo/dingle.yaml");
  text = text.substr(text.find("patterns:"));
  for (const char* file : {"demo/customs", "demo/places"})
    text.replace(text.find(file), 4, std::string(DINGLE_SOURCE) + "/demo");
  for (std::size_t at; (at = text.find("demo/data/logs")) != std::string::npos;)
    text.replace(at, 14, "{dir}/logs");
  Daemon daemon(text);
  std::filesystem::copy(std::string(DINGLE_SOURCE) + "/demo/samples", daemon.dir + "/logs",
                        std::filesystem::copy_options::recursive);
  daemon.start();
  const Json status = daemon.settled();
  EXPECT_TRUE(status["balanced"]);
  EXPECT_TRUE(status["problems"].empty());
  std::set<std::string> services;
  for (const Json& row : Json::parse(daemon.dingle({"values", "service.name", "-o", "json"}).out))
    services.insert(row["value"]);
  EXPECT_EQ(services.size(), 7u);
  for (const Json& e : daemon.events("dingle.unmatched is null", 300))
    EXPECT_LT(e["timestamp"].get<std::string>(), "2026-11-22") << "the time of the line, not of reading";
  const auto broken = daemon.events("service.name = 'berthing' and trace_id is not null", 1);
  ASSERT_EQ(broken.size(), 1u);
  bool both = false;
  for (const Json& b : daemon.events("service.name = 'berthing' and trace_id is not null", 50)) {
    std::set<std::string> found;
    for (const Json& e : daemon.events("trace_id = '" + b["trace_id"].get<std::string>() + "'"))
      found.insert(e["service.name"]);
    both = both || (found.count("berthing") && found.count("ticket-gate"));
    if (both) break;
  }
  EXPECT_TRUE(both) << "one search finds the events of two services";
}

}  // namespace
}  // namespace dingle
