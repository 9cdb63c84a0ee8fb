// What clients post: taken once it is on disk, once for each key, whatever happens in between.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/mman.h>
#include <unistd.h>

#include <atomic>
#include <fstream>
#include <set>
#include <thread>

#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"
#include "tests/torture/faults.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

std::string configuration(const std::string& destination = "index: {}", const std::string& more = "") {
  return "sources: { customs: { http: { listen: '127.0.0.1:0'" + more +
         " } } }\npipelines: { p: { from: [customs], steps: [ parse: { templates: ['ship {ship:word} "
         "n={n:int}'] } ], "
         "to: [d] } }\ndestinations: { d: { " +
         destination + " } }\n";
}
constexpr const char* kFull = "http: { url: 'http://127.0.0.1:1/' }, queue: { limit: 1MiB }";

std::string packed(const char* program, const std::string& text) {
  return run_program({program, "-c"}, text).out;
}
std::string line(int n) { return "ship Gannet n=" + std::to_string(n) + "\n"; }

class HttpSource : public testing::Test {
 protected:
  std::unique_ptr<Daemon> daemon;
  void start(const std::string& text = configuration()) {
    daemon = std::make_unique<Daemon>(text);
    daemon->start();
  }
  std::string url() {
    std::string at;
    EXPECT_TRUE(eventually([&] {
      for (const Json& text : daemon->status()["sources"][0].value("listening", Json::array())) at = text;
      return !at.empty();
    })) << "it does not listen";
    return at.replace(at.find(' '), 1, "://");
  }
  using Headers = Caller::Headers;
  // Status and answer; 0 if there was none.
  std::pair<long, Json> post(Caller& client, const std::string& body, const Headers& headers = {},
                             const char* type = "text/plain") {
    const HttpReply answer = client.post("/", body, type, headers);
    return {answer.status, Json::parse(answer.body, nullptr, false)};
  }
  std::multiset<long> numbers() {
    std::multiset<long> all;
    for (const Json& e : daemon->events()) all.insert(e["n"].get<long>());
    return all;
  }
  Json source() { return daemon->status()["sources"][0]; }
};

TEST_F(HttpSource, LinesAndDocumentsBecomeEvents) {
  start();
  Caller client(url());
  EXPECT_EQ(post(client, line(1) + "\n" + line(2)).second, (Json{{"events", 2}}));
  EXPECT_EQ(
      post(client, "[{\"ship\":\"Tern\"},{\"ship\" : \"Auk\"}]", {}, "application/json").second["events"], 2);
  const std::string zipped = packed("/usr/bin/gzip", line(3)), frame = packed("/usr/bin/zstd", line(4));
  EXPECT_EQ(post(client, "").second["events"], 0);
  EXPECT_EQ(post(client, zipped, {{"Content-Encoding", "gzip"}}).first, 200);
  EXPECT_EQ(post(client, frame, {{"Content-Encoding", "zstd"}}).first, 200);
  daemon->settled();
  const std::vector<Json> events = daemon->events();
  ASSERT_EQ(events.size(), 6u);
  EXPECT_EQ(events[0]["ship"], "Gannet");
  EXPECT_EQ(events[0]["network.peer.address"], "127.0.0.1");
  EXPECT_EQ(events[3]["body"], "{\"ship\" : \"Auk\"}");
  EXPECT_EQ(source()["empty"], 1);
  EXPECT_EQ(source()["requests"], 5);
  EXPECT_EQ(daemon->status()["balanced"], true);
}

TEST_F(HttpSource, WhatWasAnsweredSurvivesAKill) {
  start();
  std::set<long> answered;
  for (int round = 0; round < 4; ++round) {
    Caller client(url());
    std::thread killer([&] {
      std::this_thread::sleep_for(std::chrono::milliseconds(30 + 40 * round));
      daemon->kill();
    });
    // A request that was not answered is sent again by the same key, until it is.
    for (int n = static_cast<int>(answered.size());; ++n) {
      if (post(client, line(n), {{"Idempotency-Key", std::to_string(n)}}).first != 200) break;
      answered.insert(n);
    }
    killer.join();
    daemon->start();
  }
  EXPECT_GT(answered.size(), 0u);
  Caller client(url());
  const int next = static_cast<int>(answered.size());
  EXPECT_EQ(post(client, line(next), {{"Idempotency-Key", std::to_string(next)}}).first, 200);
  answered.insert(next);
  daemon->settled();
  const auto there = numbers();
  EXPECT_EQ(there, (std::multiset<long>(answered.begin(), answered.end()))) << "each once";
}

TEST_F(HttpSource, AKeyIsKnownAfterAKillAndAReload) {
  start();
  const Headers key{{"Idempotency-Key", "\"8e03978e-40d5\""}};
  {
    Caller client(url());
    EXPECT_EQ(post(client, line(1), key).second, (Json{{"events", 1}}));
    EXPECT_EQ(post(client, line(1), key).second, (Json{{"events", 1}, {"known", true}}));
  }
  daemon->kill();
  daemon->start();
  Caller client(url());
  EXPECT_EQ(post(client, line(1), key).second["known"], true);
  EXPECT_EQ(daemon->dingle({"reload"}).status, 0);
  EXPECT_EQ(post(client, line(1), key).second["known"], true);
  const auto [status, answer] = post(client, line(2), key);
  EXPECT_EQ(status, 422);
  EXPECT_NE(answer["detail"].get<std::string>().find("another body"), std::string::npos);
  daemon->settled();
  EXPECT_EQ(numbers(), std::multiset<long>{1});
  EXPECT_GE(source()["repeated"], 2) << "a count of the last moment may be killed with it";
  EXPECT_NE(daemon->dingle({"status"}).out.find("requests came again with a known Idempotency-Key"),
            std::string::npos);
}

TEST_F(HttpSource, ARenamedSourceKeepsItsSocketAndItsKeys) {
  start();
  const std::string at = url();
  Caller client(at);
  const Headers key{{"Idempotency-Key", "a"}};
  EXPECT_EQ(post(client, line(1), key).first, 200);
  std::string renamed = configuration();
  renamed.replace(renamed.find("customs: { http"), 10, "border: { was: customs,")
      .replace(renamed.find("from: [customs]"), 15, "from: [border]");
  daemon->configure(renamed);
  const Ran ran = daemon->dingle({"reload"});
  ASSERT_EQ(ran.status, 0) << ran.err;
  EXPECT_EQ(post(client, line(1), key).second["known"], true);
  EXPECT_EQ(url(), at);
  EXPECT_EQ(source()["requests"], 1);
}

TEST_F(HttpSource, WhatMayBeOnDiskIsStoredOnceWhenItIsSentAgain) {
  if (daemon_program().find("release") == std::string::npos)
    GTEST_SKIP() << "sanitizers want to be loaded first";
  daemon = std::make_unique<Daemon>(configuration());
  const std::string path = daemon->dir + "/faults";
  std::ofstream(path) << std::string(sizeof(Faults), '\0');
  const int fd = ::open(path.c_str(), O_RDWR | O_CLOEXEC);
  auto* faults =
      static_cast<Faults*>(::mmap(nullptr, sizeof(Faults), PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0));
  ::close(fd);
  daemon->environment = {{"LD_PRELOAD", std::string(DINGLE_BINARIES) + "/libdingle_faults.so"},
                         {"DINGLE_FAULTS", path}};
  daemon->start();
  Caller client(url());
  const Headers key{{"Idempotency-Key", "a"}};
  faults->failing_syncs = 1'000'000;
  EXPECT_EQ(post(client, line(1), key).first, 503);
  EXPECT_EQ(post(client, line(1), key).first, 503) << "still";
  faults->failing_syncs = 0;
  EXPECT_EQ(post(client, line(1), key).second["known"], true);
  daemon->settled();
  EXPECT_EQ(numbers(), std::multiset<long>{1});
  ::munmap(faults, sizeof(Faults));
}

TEST_F(HttpSource, ReloadsLoseNoRequestAndNoConnection) {
  start();
  const std::string at = url();
  std::atomic<int> sent{0}, failed{0};
  std::atomic<bool> done{false};
  std::vector<std::thread> clients;
  for (int c = 0; c < 2; ++c)
    clients.emplace_back([&] {
      Caller client(at);
      while (!done) failed += post(client, line(sent++)).first != 200;
    });
  for (int i = 0; i < 5; ++i) {
    std::this_thread::sleep_for(40ms);
    EXPECT_EQ(daemon->dingle({"reload"}).status, 0);
  }
  done = true;
  for (std::thread& client : clients) client.join();
  EXPECT_EQ(failed, 0);
  EXPECT_EQ(url(), at) << "the same socket";
  daemon->settled();
  EXPECT_EQ(source()["events"], sent.load());
  EXPECT_EQ(daemon->terminate(), 0);
  daemon->start();
  EXPECT_EQ(daemon->events().size(), static_cast<std::size_t>(sent));
}

TEST_F(HttpSource, WhileTheQueueIsFullRequestsAreTurnedAway) {
  start(configuration(kFull));
  Caller client(url());
  std::string body;
  for (int n = 0; n < 5000; ++n) body += line(n);
  int taken = 0, status = 0;
  std::string retry_after;
  for (int i = 0; i < 100 && status != 503; ++i) {
    const HttpReply answer = client.post("/", body);
    status = static_cast<int>(answer.status);
    taken += status == 200;
    retry_after = answer.header("Retry-After");
  }
  EXPECT_EQ(status, 503);
  EXPECT_EQ(retry_after, "1");
  EXPECT_EQ(source()["turned_away"], 1);
  daemon->configure(configuration());
  ASSERT_EQ(daemon->dingle({"reload"}).status, 0);
  EXPECT_EQ(post(client, body).first, 200);
  daemon->settled();
  EXPECT_EQ(source()["events"], 5000 * (taken + 1));
  EXPECT_EQ(daemon->status()["destinations"][0]["sent"], 5000 * (taken + 1));
}

TEST_F(HttpSource, WhatIsWrongIsSaid) {
  start(configuration("index: {}", ", path: /in, token: { file: '{dir}/secret' }, largest_request: 10KiB"));
  EXPECT_NE(daemon->problem().find("secret"), std::string::npos) << "its file is missing";
  std::ofstream(daemon->dir + "/secret") << "harbour-of-saltholm\n";
  ASSERT_EQ(daemon->dingle({"reload"}).status, 0);
  Caller client(url());
  client.keeps = false;
  const Headers token{{"Authorization", "Bearer harbour-of-saltholm"}};
  const auto expect = [&](int status, const std::string& text, const HttpReply& answer) {
    EXPECT_EQ(answer.status, status) << answer.error;
    EXPECT_NE(answer.body.find(text), std::string::npos) << answer.body;
  };
  expect(401, "needs the token", client.post("/in", line(1)));
  expect(401, "not the token",
         client.post("/in", line(1), "text/plain", {{"Authorization", "Bearer harbor"}}));
  expect(404, "POST /in", client.post("/", line(1), "text/plain", token));
  expect(405, "GET is not offered", client.get("/in", token));
  expect(400, "\"offset\":3", client.post("/in", "[1,]", "application/json", token));
  const std::string large(11'000, 'a');
  expect(413, "10240 bytes", client.post("/in", large, "text/plain", token));
  auto coded = token;
  coded.emplace_back("Content-Encoding", "zstd");
  expect(413, "10240 bytes", client.post("/in", packed("/usr/bin/zstd", large), "text/plain", coded));
  expect(400, "not zstd", client.post("/in", large.substr(0, 100), "text/plain", coded));
  coded.back().second = "gzip";
  expect(413, "10240 bytes", client.post("/in", packed("/usr/bin/gzip", large), "text/plain", coded));
  expect(400, "not gzip", client.post("/in", "nothing", "text/plain", coded));
  coded.back().second = "br";
  expect(415, "`br` is not known", client.post("/in", "nothing", "text/plain", coded));
  expect(200, "{\"events\":1}", client.post("/in", line(1), "text/plain", token));
  EXPECT_EQ(source()["refused"], 11);
  EXPECT_EQ(source()["requests"], 1);
}

TEST_F(HttpSource, TlsAndAPortThatIsTaken) {
  const std::string folder = make_folder();
  make_certificate(folder);
  start(configuration("index: {}", ", tls: { certificate: '" + folder + "/certificate.pem', key: '" + folder +
                                       "/key.pem' }"));
  const std::string at = url();
  EXPECT_TRUE(at.starts_with("https://"));
  {
    Caller client(at);
    client.target.ca = folder + "/certificate.pem";
    EXPECT_EQ(post(client, line(1)).first, 200);
  }
  Daemon other(
      "sources: { customs: { http: { listen: '" + at.substr(8) +
      "' } } }\npipelines: { p: { from: [customs], to: [d] } }\ndestinations: { d: { nowhere: {} } }\n");
  other.start();
  EXPECT_NE(other.problem().find("cannot listen on " + at.substr(8)), std::string::npos) << other.problem();
  daemon->kill();
  EXPECT_TRUE(eventually([&] { return other.status()["problems"].empty(); }));
  EXPECT_EQ(other.status()["problems"].size(), 0u) << "it tries again";
}

TEST_F(HttpSource, TakesWhatAnotherDingledSends) {
  std::string at_source = configuration("index: {}");
  at_source.replace(at_source.find("parse: {"), at_source.find(" ], to:") - at_source.find("parse: {"),
                    "json: {}, time: { field: line.timestamp }");
  start(at_source);
  Daemon agent(
      "sources: { quay: { files: { paths: ['{dir}/logs/*.log'] } } }\npipelines: { p: { from: [quay], "
      "steps: [ parse: { templates: ['{at:rfc3339} {ship:word}'] }, time: { field: at } ], to: [d] } }\n"
      "destinations: { d: { http: { url: '" +
      url() + "', compression: gzip, events: { rename: { body: line } } } } }\n");
  agent.write("quay.log", "2026-11-23T10:00:00Z Gannet\n2026-11-23T10:00:01Z Tern\n");
  agent.start();
  EXPECT_EQ(agent.settled()["destinations"][0]["sent"], 2);
  daemon->settled();
  const std::vector<Json> events = daemon->events("ship = 'Tern'");
  ASSERT_EQ(events.size(), 1u);
  EXPECT_EQ(events[0]["timestamp"], "2026-11-23T10:00:01Z");
  EXPECT_EQ(events[0]["line"], "2026-11-23T10:00:01Z Tern");
}

}  // namespace
}  // namespace dingle
