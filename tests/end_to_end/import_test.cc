// Importing files that are finished: each line once, whoever is killed meanwhile.
#include <gtest/gtest.h>
#include <signal.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>
#include <set>

#include "agent/destinations/compression.h"
#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"
#include "tests/end_to_end/service.h"

namespace dingle {
namespace {

// "2024-03-05T10:00:07Z gate 7", of an old day.
std::string old_lines(int from, int to) {
  std::string all;
  char text[80];
  for (int i = from; i < to; ++i) {
    std::snprintf(text, sizeof text, "2024-03-%02dT10:%02d:%02dZ gate %d\n", 1 + i % 9, i / 60 % 60, i % 60,
                  i);
    all += text;
  }
  return all;
}

constexpr const char* kGate = R"(
sources:
  gate: { files: { paths: ['{dir}/logs/*.log'] }, resource: { service.name: old-gate } }
pipelines:
  gate:
    from: [gate]
    unless: body like '%skip%'
    steps:
      - parse: { templates: ['{at:rfc3339} {what} {n:int}'] }
      - time: { field: at }
    to: [store]
destinations:
  store: { index: { name: 'gate-{day}', keep: { age: 30d } } }
)";

class Importing : public testing::Test {
 protected:
  Daemon daemon{kGate};
  std::string write(const std::string& name, const std::string& text) {
    std::filesystem::create_directories(daemon.dir + "/old");
    const std::string path = daemon.dir + "/old/" + name;
    std::ofstream(path, std::ios::binary) << text;
    return path;
  }
  Ran import(const std::string& path, std::vector<std::string> more = {}) {
    std::vector<std::string> all{"import", path, "--pipeline", "gate"};
    all.insert(all.end(), more.begin(), more.end());
    return daemon.dingle(all);
  }
  std::multiset<std::int64_t> numbers() {
    std::multiset<std::int64_t> all;
    for (const Json& e : daemon.events("n > -1")) all.insert(e["n"].get<std::int64_t>());
    return all;
  }
  static std::multiset<std::int64_t> up_to(std::int64_t n) {
    std::multiset<std::int64_t> all;
    for (std::int64_t i = 0; i < n; ++i) all.insert(i);
    return all;
  }
};

TEST_F(Importing, FilesOfAnyFormLandInTheirDaysAndStay) {
  daemon.start();
  const std::string plain =
      write("a.log", "\xEF\xBB\xBF" + old_lines(0, 500) + "\nnot like the others\nskip this\n");
  const std::string two_members =
      compress(Compression::gzip, old_lines(500, 900)) + compress(Compression::gzip, old_lines(900, 1000));
  const std::string gzip = write("b.log.gz", two_members);
  const std::string zstd =
      write("c.zst", compress(Compression::zstd, old_lines(1000, 1500) + "2024-03-01T10:00:00Z gate 1500"));
  Ran ran = import(plain);
  EXPECT_EQ(ran.status, 0) << ran.err;
  EXPECT_EQ(ran.out,
            plain + ": 503 lines, 1 empty; 501 events sent on, 1 unmatched, 1 not taken by the pipeline\n");
  EXPECT_EQ(import(gzip).out, gzip + ": 500 lines; 500 events sent on\n");
  const Json last = Json::parse(import(zstd, {"-o", "json"}).out);
  EXPECT_EQ(last["events"], 501) << last;
  EXPECT_TRUE(last["done"]);
  const Json status = daemon.settled();
  EXPECT_TRUE(status["balanced"]) << status["balance"];
  EXPECT_EQ(numbers(), up_to(1501));
  const Json one = daemon.events("n = 700").at(0);
  EXPECT_EQ(one["timestamp"], "2024-03-08T10:11:40Z");
  EXPECT_EQ(one["log.file.path"], std::filesystem::canonical(gzip).string());
  EXPECT_EQ(one["service.name"], "old-gate");
  const std::string indexes = daemon.dingle({"indexes"}).out;
  EXPECT_NE(indexes.find("gate-2024-03-09"), std::string::npos) << indexes;
  // Each is shown, and not taken a second time.
  EXPECT_EQ(Json::parse(daemon.dingle({"import", "--list", "-o", "json"}).out).size(), 3u);
  ran = import(gzip);
  EXPECT_EQ(ran.status, 1);
  EXPECT_NE(ran.err.find("these contents were imported before\n  = --again"), std::string::npos) << ran.err;
  EXPECT_EQ(import(gzip, {"--again"}).status, 0);
  daemon.settled();
  EXPECT_EQ(numbers().count(700), 2u);
}

TEST_F(Importing, ACompressedCopyHasTheSameContents) {
  daemon.start();
  const std::string text = old_lines(0, 5000), half = text.substr(0, 100'000);
  const auto known = [&](const std::string& path) {
    const Ran ran = import(path);
    EXPECT_EQ(ran.status, 1);
    EXPECT_NE(ran.err.find("these contents were imported before"), std::string::npos) << ran.err;
  };
  EXPECT_EQ(import(write("a.log.zst", compress(Compression::zstd, text))).status, 0);
  known(write("a.log", text));
  known(write("a.gz", compress(Compression::gzip, half) + compress(Compression::gzip, text.substr(100'000))));
  EXPECT_EQ(import(write("b.gz", compress(Compression::gzip, old_lines(5000, 5010)))).status, 0);
  known(write("b", old_lines(5000, 5010)));
  daemon.settled();
  EXPECT_EQ(numbers(), up_to(5010));
}

// Whatever a source read is known when a copy of it is imported: while it is there, when it was cut, and when it is gone.
TEST_F(Importing, WhatASourceReadIsNotImportedFromACopy) {
  daemon.write("gate.log", old_lines(0, 4000));
  daemon.write("cut.log", old_lines(4000, 8000));
  daemon.write("third.log", old_lines(8010, 9000));
  daemon.start();
  daemon.settled();
  const std::string logs = daemon.dir + "/logs/";
  const auto refused = [&](const std::string& path, const std::string& part,
                           const std::vector<std::string>& more = {}) {
    const Ran ran = import(path, more);
    EXPECT_EQ(ran.status, 1) << path << ran.out;
    EXPECT_NE(ran.err.find(part), std::string::npos) << ran.err;
  };
  const std::string known = "were read by the source `gate`, as ",
                    whole = "it was read by the source `gate`, as ";
  refused(write("gate.log.1.gz", compress(Compression::gzip, old_lines(0, 4000))), whole + logs + "gate.log");
  refused(write("copy.log", old_lines(0, 4000)), whole);
  for (const int lines : {100, 900, 1100, 3999})
    refused(write("begin.zst", compress(Compression::zstd, old_lines(0, lines))), whole);
  const std::size_t read = old_lines(0, 4000).size();
  refused(write("more.log", old_lines(0, 4500)), "its bytes 0 to 1");
  refused(write("more.log", old_lines(0, 4500)), "tail -c +" + std::to_string(read + 1));
  // Cut, as copytruncate does, and gone.
  std::filesystem::resize_file(logs + "cut.log", 0);
  daemon.write("cut.log", old_lines(8000, 8010));
  daemon.settled();
  EXPECT_EQ(numbers(), up_to(9000));
  refused(write("cut.log.1.gz", compress(Compression::gzip, old_lines(4000, 8000))),
          whole + logs + "cut.log");
  daemon.terminate();
  std::filesystem::remove(logs + "gate.log");
  std::filesystem::remove(logs + "third.log");
  daemon.start();
  daemon.settled();
  refused(write("gate.log.1.gz", compress(Compression::gzip, old_lines(0, 4000))), whole + logs + "gate.log");
  refused(write("third.log.1.gz", compress(Compression::gzip, old_lines(8010, 9000))),
          whole + logs + "third.log");
  EXPECT_EQ(numbers(), up_to(9000));
  // What only looks like it is imported; and what is wanted twice.
  EXPECT_EQ(import(write("other.log", old_lines(9000, 9500))).status, 0);
  std::string altered = old_lines(0, 4000);
  altered[altered.size() - 2] = 'x';
  EXPECT_EQ(import(write("altered.log", altered)).status, 0);
  EXPECT_EQ(import(daemon.dir + "/old/copy.log", {"--again"}).status, 0);
  daemon.settled();
  EXPECT_EQ(numbers().count(17), 3u);
}

// Equal in size, and at both ends.
TEST_F(Importing, ContentsAreKnownByTheirWholeText) {
  daemon.start();
  const std::string text = old_lines(0, 8000);
  std::string other = text;
  other[text.size() / 2] = '9';
  EXPECT_EQ(import(write("a.log", text)).status, 0);
  EXPECT_EQ(import(write("b.log", other)).status, 0);
  EXPECT_EQ(import(write("c.log", text)).status, 1);
}

TEST_F(Importing, WhatCannotBeImportedIsSaid) {
  daemon.start();
  daemon.write("live.log", old_lines(0, 3));
  daemon.settled();
  const std::string live = daemon.path("live.log");
  const auto refused = [&](const Ran& ran, const std::string& why) {
    EXPECT_EQ(ran.status, 1);
    EXPECT_NE(ran.err.find(why), std::string::npos) << ran.err;
  };
  refused(import(live), "it was read by the source `gate`, as " + live + "\n  = --again");
  refused(import(live, {"--again"}), "the source `gate` reads this file\n  = take it out of `paths` of gate");
  std::filesystem::create_directories(daemon.dir + "/old");
  std::filesystem::create_symlink(live, daemon.dir + "/old/link");
  refused(import(daemon.dir + "/old/link"), "it was read by the source");
  std::filesystem::rename(live, daemon.dir + "/old/moved");
  refused(import(daemon.dir + "/old/moved"), "it was read by the source");
  refused(import(daemon.dir), "it is a folder");
  refused(import(daemon.dir + "/none"), "No such file");
  refused(import(write("z.gz", compress(Compression::gzip, old_lines(0, 3000)).substr(0, 500))),
          "its end is cut off\n  = nothing of it is sent");
  const std::string path = write("x", old_lines(0, 1));
  refused(daemon.dingle({"import", path, "--pipeline", "gaet"}),
          "there is no pipeline `gaet`\n  = did you mean `gate`?");
  refused(import(path, {"--source", "gat"}), "there is no source `gat`");
  EXPECT_EQ(daemon.dingle({"import", path}).status, 2);
  EXPECT_EQ(import(write("empty", "")).out, daemon.dir + "/old/empty: 0 lines; 0 events sent on\n");
}

TEST_F(Importing, APartIsTakenWhereTheImportGoesOnAndNowhereElse) {
  daemon.start();
  Caller api("http://" + daemon.address(), daemon.token());
  const std::string text = old_lines(0, 100);
  const auto begin = [&](const Json& more = Json::object()) {
    Json body{{"file", "/srv/old/x.log"},
              {"bytes", text.size()},
              {"hash", 18446744073709551615u},
              {"pipeline", "gate"}};
    body.update(more);
    return api.post("/v1/imports", body.dump(), "application/json");
  };
  const Json begun = Json::parse(begin().body);
  const std::string at = "/v1/imports/" + begun["id"].get<std::string>() + "?position=";
  EXPECT_EQ(api.post(at + "5", text).status, 409);
  const std::size_t line = text.find('\n') + 1;
  Json taken = Json::parse(api.post(at + "0", text.substr(0, line + 5)).body);
  EXPECT_EQ(taken["position"], line) << taken;  // to the last whole line
  EXPECT_EQ(api.post(at + "0", text).status, 409);
  EXPECT_EQ(Json::parse(begin().body)["position"], line);
  EXPECT_EQ(begin({{"hash", 5}, {"bytes", 7}}).status, 409);  // another file under that path
  taken = Json::parse(api.post(at + std::to_string(line) + "&last=true", text.substr(line)).body);
  EXPECT_TRUE(taken["done"]) << taken;
  EXPECT_EQ(api.post(at + std::to_string(text.size()) + "&last=true", "").status, 409);
  EXPECT_EQ(api.get("/v1/imports/" + begun["id"].get<std::string>()).status, 200);
  EXPECT_EQ(api.get("/v1/imports/12").status, 404);
  EXPECT_EQ(api.post("/v1/imports/xyz?position=0", "").status, 400);
  EXPECT_EQ(begin({{"hash", -1}}).status, 400);
  daemon.settled();
  EXPECT_EQ(numbers(), up_to(100));
}

// The queue of a destination that takes nothing: what is imported waits, what comes live goes first.
TEST(ImportingBeside, WaitsWhileAQuarterOfAQueueIsTakenAndGoesOnWhoeverWasKilled) {
  std::atomic<bool> open{false};
  std::mutex mutex;
  std::multiset<int> numbers;
  Service service([&](const HttpRequest& request, HttpAnswer& answer) {
    if (!open) return answer.status = 503, void();
    std::lock_guard lock(mutex);
    std::istringstream in(request.body);
    for (std::string line; std::getline(in, line);) numbers.insert(Json::parse(line)["n"].get<int>());
  });
  Daemon daemon(R"(
sources: { gate: { files: { paths: ['{dir}/logs/*.log'] } } }
pipelines: { p: { from: [gate], steps: [ parse: { templates: ['{at:rfc3339} {what} {n:int}'] } ], to: [d] } }
destinations:
  d:
    http: { url: ')" +
                service.url() + R"(' }
    retry: { first: 10ms, longest: 50ms }
    queue: { limit: 16MiB }
)");
  daemon.start();
  constexpr int kOld = 150'000;
  const std::string path = daemon.dir + "/old.log";
  std::ofstream(path) << old_lines(0, kOld);
  const auto begin = [&] {
    return start_program({std::string(DINGLE_BINARIES) + "/dingle", "import", path, "--pipeline", "p",
                          "--data", daemon.dir + "/data"},
                         daemon.dir + "/import.log");
  };
  const auto progress = [&] {
    const Json all = Json::parse(daemon.dingle({"import", "--list", "-o", "json"}).out, nullptr, false);
    return all.is_array() && !all.empty() ? all[0]["lines"].get<int>() : 0;
  };
  int client = begin();
  int before = 0;
  EXPECT_TRUE(eventually([&] { return (before = progress()) > 10'000; }));
  daemon.write("live.log", old_lines(kOld, kOld + 1000));
  EXPECT_TRUE(eventually([&] { return find(daemon.status()["destinations"], "d")["in"] >= before + 1000; }));
  EXPECT_LT(progress(), kOld);
  daemon.kill();  // the client waits for it
  daemon.start();
  end_program(client, SIGKILL);
  before = progress();
  EXPECT_LT(before, kOld);
  client = begin();
  open = true;
  EXPECT_TRUE(eventually([&] { return progress() > before; })) << "the new one has begun";
  daemon.kill();
  daemon.start();
  int ended = 0;
  EXPECT_TRUE(eventually([&] { return progress() == kOld; }));
  EXPECT_TRUE(eventually([&] { return ::waitpid(client, &ended, WNOHANG) == client; }));
  EXPECT_EQ(ended, 0) << read_file(daemon.dir + "/import.log");
  EXPECT_TRUE(daemon.settled()["balanced"]);
  std::lock_guard lock(mutex);
  EXPECT_EQ(std::set<int>(numbers.begin(), numbers.end()).size(), std::size_t(kOld + 1000));
}

TEST(ImportingAs, LinesAreReadAsTheirSourceWould) {
  Daemon daemon(R"(
sources:
  plain: { files: { paths: ['{dir}/logs/*.log'] } }
  traces: { files: { paths: ['{dir}/logs/*.out'], join: { indented: true } }, zone: Europe/Berlin }
pipelines:
  p:
    from: [plain, traces]
    steps: [ { parse: { templates: ['{at:time} {message}'] } }, { time: { field: at } } ]
    to: [store]
  q: { from: [p], to: [store] }
destinations: { store: { index: {} } }
)");
  daemon.start();
  const std::string path = daemon.dir + "/a.out";
  std::ofstream(path) << "2024-01-01 12:00:00 boom\n  at berth\n  at gate\n2024-01-01 12:00:01 calm\n";
  Ran ran = daemon.dingle({"import", path, "--pipeline", "p"});
  EXPECT_EQ(ran.status, 1);
  EXPECT_NE(
      ran.err.find(
          "several sources that read files lead to this pipeline: `plain`, `traces`\n  = say as which one"),
      std::string::npos)
      << ran.err;
  ran = daemon.dingle({"import", path, "--pipeline", "p", "--source", "traces"});
  EXPECT_EQ(ran.out, path + ": 4 lines, 2 joined to the lines before them; 4 events sent on\n") << ran.err;
  EXPECT_TRUE(daemon.settled()["balanced"]);
  const std::vector<Json> events = daemon.events("message like 'boom%'");
  ASSERT_EQ(events.size(), 2u);  // of p, and of q behind it
  EXPECT_EQ(events[0]["timestamp"], "2024-01-01T11:00:00Z");
  EXPECT_EQ(events[0]["body"], "2024-01-01 12:00:00 boom\n  at berth\n  at gate");
}

// Lines around the size of the pieces in which a file is read: none is torn, as none is by the source.
TEST_F(Importing, TearsNoLineHoweverLong) {
  std::string text;
  int lines = 0;
  for (const std::size_t size :
       {262'000u, 262'143u, 262'144u, 262'145u, 300'000u, 524'287u, 600'000u, 1'000'000u}) {
    text += std::string(size, 'x') + "\nshort and whole " + std::to_string(size) + "\n";
    lines += 2;
  }
  daemon.start();
  const Ran ran = import(write("long.log", text));
  EXPECT_EQ(ran.status, 0) << ran.out << ran.err;
  daemon.settled();
  const auto source = find(daemon.status()["sources"], "gate");
  EXPECT_EQ(source["lines"], lines);
  EXPECT_EQ(source["events"], lines);
  EXPECT_EQ(source["cut"], 0);
}

}  // namespace
}  // namespace dingle
