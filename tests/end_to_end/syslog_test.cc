// syslog over UDP and TCP, sent by util-linux' `logger` and by sockets of our own.
#include <gtest/gtest.h>

#include <atomic>
#include <fstream>
#include <set>
#include <thread>

#include "tests/end_to_end/daemon.h"
#include "tests/end_to_end/sender.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

std::string syslog_configuration(const std::string& destination = "index: {}", const std::string& more = "") {
  return "sources: { radio: { syslog: { udp: '127.0.0.1:0', tcp: '127.0.0.1:0', buffer: 64KiB" + more +
         " } } }\npipelines: { p: { from: [radio], steps: [ parse: { templates: ['<{priority:int}>{header} "
         "n={n:int}'] } ], "
         "to: [d] } }\ndestinations: { d: { " +
         destination + " } }\n";
}

std::string message(int n) {
  return "<13>1 2026-11-23T10:00:00Z islet4 radio 1 - - channel 16 is open n=" + std::to_string(n);
}

std::set<long> numbers(const std::vector<Json>& events) {
  std::set<long> all;
  for (const Json& e : events) all.insert(e["n"].get<long>());
  return all;
}

// Until so many lines were read and all are delivered; the source then.
Json settled(Daemon& daemon, std::int64_t lines) {
  for (int i = 0; i < 1500; ++i, std::this_thread::sleep_for(20ms)) {
    const Json s = daemon.status();
    const Json& source = s["sources"][0];
    if (source["lines"].get<std::int64_t>() + source["lost_queue_full"].get<std::int64_t>() +
                source["lost_too_fast"].get<std::int64_t>() >=
            lines &&
        s["destinations"][0]["waiting"] == 0 && s["balanced"] == true)
      return source;
  }
  ADD_FAILURE() << daemon.status().dump(1);
  return daemon.status()["sources"][0];
}

// The configuration that docs/sources.md shows.
std::string documented() {
  std::string text = read_file(std::string(DINGLE_SOURCE) + "/docs/sources.md");
  const std::string begin = "```yaml\nversion: 1\n";
  text.erase(0, text.find(begin) + begin.size());
  text.erase(text.find("```"));
  text.replace(text.find("Europe/Stockholm"), 16, "UTC");
  for (std::size_t at; (at = text.find("127.0.0.1:5514")) != std::string::npos;)
    text.replace(at, 14, "'127.0.0.1:0'");
  return text;
}

TEST(Syslog, LoggerSendsByEveryRoad) {
  Daemon daemon(documented());
  daemon.start();
  const std::string udp = port_of(daemon, "udp"), tcp = port_of(daemon, "tcp");
  const Json begin = daemon.status()["time"];
  int n = 0;
  for (const std::vector<std::string>& how :
       std::vector<std::vector<std::string>>{{"-d", "-P", udp, "--rfc3164"},
                                             {"-d", "-P", udp, "--rfc5424"},
                                             {"-T", "-P", tcp, "--rfc3164"},
                                             {"-T", "-P", tcp, "--rfc5424"},
                                             {"-T", "-P", tcp, "--rfc5424", "--octet-count"}}) {
    std::vector<std::string> call{"/usr/bin/logger", "-n", "127.0.0.1",     "-t",
                                  "radio",           "-p", "local0.warning"};
    call.insert(call.end(), how.begin(), how.end());
    call.push_back("ship Gannet calls n=" + std::to_string(n++));
    ASSERT_EQ(run_program(call).status, 0);
  }
  settled(daemon, n);
  const std::vector<Json> events = daemon.events();
  ASSERT_EQ(events.size(), 5);
  int by_udp = 0;
  for (const Json& e : events) {
    EXPECT_EQ(e["syslog.facility"], 16);  // local0
    EXPECT_EQ(e["severity"], "warning");
    EXPECT_EQ(e["severity_number"], 13);
    EXPECT_EQ(e["syslog.app_name"], "radio");
    EXPECT_TRUE(e["message"].get<std::string>().starts_with("ship Gannet calls n="));
    const auto second = [](const Json& time) { return time.get<std::string>().substr(0, 19); };
    EXPECT_GE(second(e["timestamp"]), second(begin)) << e;
    EXPECT_LE(second(e["timestamp"]), second(e["observed_timestamp"])) << e;
    EXPECT_EQ(e["network.peer.address"], "127.0.0.1");
    by_udp += e["network.transport"] == "udp";
  }
  EXPECT_EQ(by_udp, 2);
}

TEST(Syslog, TcpWaitsWhileTheQueueIsFull) {
  Daemon daemon(syslog_configuration("http: { url: 'http://127.0.0.1:1/' }, queue: { limit: 1MiB }"));
  daemon.start();
  Sender sender(port_of(daemon, "tcp"), SOCK_STREAM);
  constexpr int kMessages = 250'000;  // more than the sockets' buffers hold
  std::atomic<int> sent{0};
  std::thread sending([&] {
    for (int n = 0; n < kMessages; n += 100) {
      std::string part;
      for (int i = n; i < n + 100; ++i) part += message(i) + "\n";
      sender.send(part);
      sent = n + 100;
    }
    sender.close();
  });
  EXPECT_TRUE(eventually([&] { return daemon.status()["sources"][0].value("waits_for", "") == "d"; }));
  // It still sends until the sockets' buffers are full, and then it waits.
  int stuck = -1;
  for (int i = 0; i < 100 && sent != stuck; ++i) {
    stuck = sent;
    std::this_thread::sleep_for(500ms);
  }
  EXPECT_EQ(sent, stuck);
  EXPECT_LT(stuck, kMessages);
  daemon.configure(syslog_configuration());
  ASSERT_EQ(daemon.dingle({"reload"}).status, 0);  // the connection stays open over it
  sending.join();
  const Json source = settled(daemon, kMessages);
  EXPECT_EQ(source["lines"], kMessages);
  EXPECT_EQ(daemon.status()["destinations"][0]["sent"], kMessages);
}

TEST(Syslog, MessagesLongerThanAReadAreTakenWhole) {
  Daemon daemon(syslog_configuration("index: {}", ", longest_message: 1MiB"));
  daemon.start();
  Sender sender(port_of(daemon, "tcp"), SOCK_STREAM);
  const std::string text = "<13>" + std::string(700'000, 'x') + " n=1";
  sender.send(text + "\n" + std::to_string(text.size()) + " " + text);
  EXPECT_EQ(settled(daemon, 2)["cut"], 0);
  EXPECT_EQ(daemon.events("n = 1").size(), 2u);
}

TEST(Syslog, QuietConnectionsMakeRoomWhenAllAreTaken) {
  Daemon daemon(syslog_configuration("index: {}", ", most_connections: 3, idle: 1s"));
  daemon.start();
  const std::string port = port_of(daemon, "tcp");
  Sender talks(port, SOCK_STREAM), quiet(port, SOCK_STREAM), other(port, SOCK_STREAM);
  EXPECT_NE(daemon.problem("`most_connections`"), "");
  Sender late(port, SOCK_STREAM);
  late.send("<13>late n=1\n");
  for (int n = 2; daemon.status()["sources"][0].value("closed_idle", 0) == 0 && n < 500; ++n) {
    talks.send("<13>talks n=" + std::to_string(n) + "\n");
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
  }
  talks.send("<13>talks n=1000\n");
  EXPECT_TRUE(eventually([&] { return daemon.events("n = 1 or n = 1000").size() == 2; }));
  EXPECT_EQ(daemon.status()["sources"][0]["closed_idle"], 1);
}

TEST(Syslog, WhatComesByUdpWhileTheQueueIsFullIsCounted) {
  Daemon daemon(syslog_configuration("http: { url: 'http://127.0.0.1:1/' }, queue: { limit: 1MiB }"));
  daemon.start();
  Sender sender(port_of(daemon, "udp"), SOCK_DGRAM);
  int messages = 0;
  Ran status;
  EXPECT_TRUE(eventually([&] {  // a problem for as long as it goes on
    for (const int more = messages + 10'000; messages < more; ++messages) {
      sender.send(message(messages));
      if (messages % 500 == 499) std::this_thread::sleep_for(2ms);
    }
    status = daemon.dingle({"status"});
    return status.out.find("messages are being lost: they come by UDP") != std::string::npos &&
           daemon.status()["sources"][0]["lost_queue_full"] > 0;
  })) << status.out;
  daemon.configure(syslog_configuration());
  ASSERT_EQ(daemon.dingle({"reload"}).status, 0);
  const Json source = settled(daemon, messages);
  const long lost = source["lost_queue_full"].get<long>() + source["lost_too_fast"].get<long>();
  EXPECT_GT(source["lost_queue_full"], 0);
  EXPECT_EQ(source["lines"].get<long>() + lost, messages);
  EXPECT_EQ(daemon.status()["destinations"][0]["sent"], source["lines"]);
  EXPECT_NE(daemon.dingle({"status"}).out.find("came by UDP while the queues were full, and are lost"),
            std::string::npos);
}

TEST(Syslog, NothingIsLostOverReloadsAndAnOrderlyStop) {
  Daemon daemon(syslog_configuration());
  daemon.start();
  Sender udp(port_of(daemon, "udp"), SOCK_DGRAM), tcp(port_of(daemon, "tcp"), SOCK_STREAM);
  std::atomic<bool> done{false};
  std::thread reloading([&] {
    for (int i = 0; !done && i < 50; ++i) {
      daemon.configure(syslog_configuration("index: {}", ", most_connections: " + std::to_string(10 + i)));
      EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
    }
  });
  constexpr int kEach = 4'000;
  for (int n = 0; n < kEach; ++n) {
    udp.send(message(n));
    const std::string text = message(kEach + n) + "\n";
    tcp.send(text.substr(0, 20));  // messages are in pieces now and then
    tcp.send(text.substr(20));
    if (n % 20 == 0) std::this_thread::sleep_for(2ms);
  }
  done = true;
  reloading.join();
  tcp.send(message(2 * kEach));  // not finished with a line feed: the stop takes it as it is
  udp.send(message(2 * kEach + 1));
  EXPECT_EQ(daemon.terminate(), 0);
  daemon.start();
  // On a busy machine datagrams come faster than they are taken, or than they find room; those are counted.
  const Json source = settled(daemon, 2 * kEach + 2);
  const long dropped = source["lost_too_fast"].get<long>() + source["lost_queue_full"].get<long>();
  const auto all = daemon.events();
  EXPECT_EQ(static_cast<long>(all.size()), 2 * kEach + 2 - dropped);
  const std::set<long> there = numbers(all);
  EXPECT_EQ(there.size(), all.size());
  for (long n = kEach; n <= 2 * kEach; ++n) EXPECT_EQ(there.count(n), 1u) << n << " came by TCP";
}

TEST(Syslog, AnAddressThatIsTakenIsAProblemAndTriedAgain) {
  Daemon first(syslog_configuration());
  first.start();
  const std::string port = port_of(first, "tcp");
  std::string text = syslog_configuration();
  text.replace(text.find("tcp: '127.0.0.1:0'"), 18, "tcp: '127.0.0.1:" + port + "'");
  Daemon second(text);
  second.start();
  const std::string problem = second.problem();
  EXPECT_NE(problem.find("cannot listen on 127.0.0.1:" + port), std::string::npos) << problem;
  const auto begin = std::chrono::steady_clock::now();
  second.terminate();  // what it cannot listen on does not hold it up
  EXPECT_LT(std::chrono::steady_clock::now() - begin, 3s);
  second.start();
  first.terminate();
  EXPECT_TRUE(eventually([&] { return second.status()["problems"].empty(); }));
  EXPECT_EQ(port_of(second, "tcp"), port);
}

TEST(Syslog, AWrongAddressIsNamedWithItsPlace) {
  Daemon daemon(syslog_configuration());
  for (auto [from, to, message] :
       {std::tuple{"'127.0.0.1:0', tcp", "'5514', tcp", "`5514` is not an address with a port"},
        {"udp: '127.0.0.1:0', tcp: '127.0.0.1:0', ", "", "needs an address to listen on"}}) {
    std::string text = syslog_configuration();
    text.replace(text.find(from), std::string(from).size(), to);
    daemon.configure(text);
    const Ran ran = daemon.dingle({"check", daemon.dir + "/dingle.yaml"});
    EXPECT_EQ(ran.status, 1);
    EXPECT_NE((ran.out + ran.err).find(message), std::string::npos) << ran.out << ran.err;
  }
}

}  // namespace
}  // namespace dingle
