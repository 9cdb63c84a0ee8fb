// Destinations against the real servers.
#include <gtest/gtest.h>
#include <sys/file.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>
#include <thread>

#include "tests/end_to_end/gate.h"
#include "tests/end_to_end/servers.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

class PostgresDestination : public testing::Test {
 protected:
  static void SetUpTestSuite() {
    if (PostgresServer::installed()) server = new PostgresServer;
  }
  static void TearDownTestSuite() { delete server, server = nullptr; }
  void SetUp() override {
    if (!server) GTEST_SKIP() << "PostgreSQL is not installed";
    server->query("DROP TABLE IF EXISTS gate CASCADE; DROP TABLE IF EXISTS dingle_progress, dingle_sender");
  }
  static std::string destination(const std::string& more = "") {
    return gate_configuration(
        "    postgres: { connect: '" + server->connect() +
        "', table: gate, columns: { status: int, client: { field: client.address, type: ip } }" + more +
        " }\n");
  }
  static PostgresServer* server;
};
PostgresServer* PostgresDestination::server = nullptr;

TEST_F(PostgresDestination, MakesAPartitionedTableAndFillsIt) {
  Daemon daemon(destination());
  daemon.write("gate.log", gate_lines(300) + "not a gate line\n");
  daemon.start();
  daemon.settled();
  EXPECT_EQ(server->value("SELECT count(*) FROM gate"), "301");
  EXPECT_EQ(server->value("SELECT count(*) FROM pg_inherits WHERE inhparent = 'gate'::regclass"), "4");
  const auto row = server->query(
      "SELECT time AT TIME ZONE 'UTC', status, host(client), body, fields->>'user', fields->>'service.name', "
      "fields ? 'status', pipeline, template, length(configuration) FROM gate WHERE status = 61");
  ASSERT_EQ(row.size(), 1u);
  EXPECT_EQ(row[0], (std::vector<std::string>{"2026-11-21 10:00:01", "61", "192.0.2.61",
                                              "2026-11-21T10:00:01Z 192.0.2.61 anna 61", "anna",
                                              "ticket-gate", "f", "gate", "1", "8"}));
  EXPECT_EQ(server->value("SELECT count(*) FROM gate WHERE status IS NULL AND fields ? 'dingle.unmatched'"),
            "1");
  EXPECT_EQ(server->value("SELECT count(*) FROM gate WHERE template IS NULL"), "1");
}

TEST_F(PostgresDestination, WildTimesShareAPartition) {
  Daemon daemon(destination());
  std::string lines = gate_lines(3);
  for (int year = 2100; year < 2160; ++year)
    lines += std::to_string(year) + "-01-01T00:00:00Z 192.0.2.1 anna 7\n";
  daemon.write("gate.log", lines + "1971-01-01T00:00:00Z 192.0.2.1 anna 7\n");
  daemon.start();
  daemon.settled();
  EXPECT_EQ(server->value("SELECT count(*) FROM gate"), "64");
  EXPECT_EQ(server->value("SELECT count(*) FROM gate WHERE time > '2099-01-01'"), "60");
  EXPECT_EQ(server->value("SELECT count(*) FROM pg_inherits WHERE inhparent = 'gate'::regclass"), "4");
}

// A line that says `users` must not reach a table of that name.
TEST_F(PostgresDestination, ATableThatALineNamesIsOneOfOurs) {
  server->query("DROP TABLE IF EXISTS users, anna CASCADE; CREATE TABLE users(id int)");
  Daemon daemon(gate_configuration("    postgres: { connect: '" + server->connect() +
                                   "', table: '{user}', columns: { status: int } }\n"));
  daemon.write("gate.log",
               gate_line(1, "users") + gate_line(2) + gate_line(3, "dingle_progress") + gate_line(4));
  daemon.start();
  const Json status = daemon.settled();
  EXPECT_EQ(server->value("SELECT count(*) FROM anna"), "2");
  EXPECT_EQ(server->value("SELECT string_agg(attname, ',') FROM pg_attribute WHERE attrelid = "
                          "'users'::regclass AND attnum > 0"),
            "id");
  EXPECT_EQ(find(status["destinations"], "d")["letters"], 2);
  const std::string letters = daemon.dingle({"letters", "-o", "json"}).out;
  EXPECT_NE(letters.find("was not made by dingle"), std::string::npos) << letters;
}

TEST_F(PostgresDestination, ARowOfItsOwnThatDoesNotStayIsTold) {
  Daemon daemon(destination());
  daemon.write("gate.log", gate_line(1));
  daemon.start();
  daemon.settled();
  server->query(
      "CREATE OR REPLACE FUNCTION gone() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NULL; END';"
      "CREATE TRIGGER gone BEFORE INSERT ON dingle_sender FOR EACH ROW EXECUTE FUNCTION gone();"
      "DELETE FROM dingle_sender");
  daemon.write("gate.log", gate_line(2));
  EXPECT_NE(daemon.problem("does not stay").find("does not stay"), std::string::npos);
  server->query("DROP TRIGGER gone ON dingle_sender");
  daemon.settled();
  EXPECT_EQ(server->value("SELECT count(*) FROM gate"), "2");
}

TEST_F(PostgresDestination, AColumnOfTheUsersGoesBeforeOneOfOurs) {
  Daemon daemon(gate_configuration("    postgres: { connect: '" + server->connect() +
                                   "', table: gate, columns: { pipeline: { field: user, type: text } } }\n"));
  daemon.write("gate.log", gate_line(1));
  daemon.start();
  daemon.settled();
  EXPECT_EQ(server->value("SELECT pipeline FROM gate"), "anna");
}

TEST_F(PostgresDestination, KeepsTheFieldsThatWereChosen) {
  Daemon daemon(destination(
      ", events: { omit: [service.name, log.file.path, host.name, body], rename: { user: who } }"));
  daemon.write("gate.log", gate_line(1));
  daemon.start();
  daemon.settled();
  EXPECT_EQ(server->query("SELECT status, body, fields FROM gate")[0],
            (std::vector<std::string>{"1", "", R"({"who": "anna"})"}));
}

TEST_F(PostgresDestination, KillingTheServerLosesAndDoublesNothing) {
  Daemon daemon(destination());
  daemon.start();
  for (int round = 0; round < 3; ++round) {
    for (int i = 0; i < 2000; ++i) daemon.write("gate.log", gate_line(round * 2000 + i));
    server->kill();
    std::this_thread::sleep_for(50ms);
    server->start();
  }
  const Json status = daemon.settled();
  EXPECT_EQ(server->value("SELECT count(*) || ' ' || count(DISTINCT status) || ' ' || max(status) FROM gate"),
            "6000 6000 5999");
  EXPECT_TRUE(status["balanced"]);
}

TEST_F(PostgresDestination, AnEventThatTheTableRefusesIsSetAsideAndCanBeResent) {
  server->query(
      "CREATE TABLE gate(time timestamptz, body text, fields jsonb, status bigint CHECK (status <> 777), "
      "client inet)");
  Daemon daemon(destination());
  daemon.write("gate.log", gate_lines(10'000));
  daemon.start();
  Json status = daemon.settled();
  EXPECT_EQ(server->value("SELECT count(*) FROM gate"), "9999");
  EXPECT_EQ(find(status["destinations"], "d")["set_aside"], 1);
  EXPECT_TRUE(status["balanced"]) << status["balance"];
  Ran list = daemon.dingle({"letters", "-o", "ndjson"});
  Json letter = Json::parse(list.out);
  EXPECT_NE(letter["reason"].get<std::string>().find("violates check constraint"), std::string::npos)
      << list.out;
  EXPECT_EQ(letter["event"]["status"], 777);

  // Resent before the cause is gone, it comes back; after that it is there, once.
  EXPECT_EQ(daemon.dingle({"letters", "resend", "--all"}).status, 0);
  status = daemon.settled();
  EXPECT_EQ(find(status["destinations"], "d")["set_aside"], 2);
  server->query("ALTER TABLE gate DROP CONSTRAINT gate_status_check");
  Ran resent = daemon.dingle({"letters", "resend", "--all"});
  EXPECT_EQ(resent.status, 0) << resent.err;
  daemon.settled();
  EXPECT_EQ(server->value("SELECT count(*) || ' ' || count(DISTINCT status) FROM gate"), "10000 10000");
  EXPECT_EQ(daemon.dingle({"letters", "-o", "ndjson"}).out, "");
}

TEST_F(PostgresDestination, RestoredFromABackupItIsSentAgainWhatItLacks) {
  Daemon daemon(destination());
  daemon.write("gate.log", gate_lines(500));
  daemon.start();
  daemon.settled();
  server->query(
      "CREATE TABLE backup AS SELECT * FROM gate; CREATE TABLE backup_progress AS SELECT * FROM "
      "dingle_progress");
  for (int i = 500; i < 1500; ++i) daemon.write("gate.log", gate_line(i));
  daemon.settled();
  EXPECT_EQ(server->value("SELECT count(*) FROM gate"), "1500");
  // The server goes back to its backup, and all connections end.
  server->query(
      "TRUNCATE gate, dingle_progress; INSERT INTO gate SELECT * FROM backup; INSERT INTO dingle_progress "
      "SELECT * FROM "
      "backup_progress; DROP TABLE backup, backup_progress");
  server->stop();
  server->start();
  daemon.write("gate.log", gate_line(1500));
  daemon.settled();
  EXPECT_EQ(server->value("SELECT count(*) || ' ' || count(DISTINCT status) FROM gate"), "1501 1501");
  const Json status = daemon.status();
  ASSERT_EQ(status["problems"].size(), 1u);
  EXPECT_NE(status["problems"][0]["text"].get<std::string>().find("restored from a backup"),
            std::string::npos);
}

TEST_F(PostgresDestination, ACopiedSpoolIsRefused) {
  Daemon daemon(destination());
  daemon.write("gate.log", gate_lines(10));
  daemon.start();
  daemon.settled();
  daemon.terminate();
  Daemon copy(destination());
  std::filesystem::copy(daemon.dir + "/data", copy.dir + "/data", std::filesystem::copy_options::recursive);
  daemon.start();
  daemon.write("gate.log", gate_line(10));
  daemon.settled();
  copy.write("gate.log", gate_lines(20));
  copy.start();
  const std::string text = copy.problem();
  EXPECT_NE(text.find("a copy of this spool has written here"), std::string::npos) << text;
  EXPECT_EQ(server->value("SELECT count(*) FROM gate"), "11");
}

TEST_F(PostgresDestination, WhatTheServerCannotHoldIsMendedAndCounted) {
  Daemon daemon(destination());
  daemon.write("gate.log", gate_line(1, std::string("a\0b", 3)) + gate_line(2, "\xff\xfe"));
  daemon.start();
  const Json status = daemon.settled();
  EXPECT_EQ(server->value("SELECT fields->>'user' FROM gate WHERE status = 1"), "a\uFFFDb");
  EXPECT_EQ(server->value("SELECT count(*) FROM gate"), "2");
  EXPECT_GE(find(status["destinations"], "d")["replaced"].get<int>(), 1);
}

TEST_F(PostgresDestination, ATableThatDoesNotFitIsNamedAndNothingIsLost) {
  server->query("CREATE TABLE gate(time text, body text)");
  Daemon daemon(destination());
  daemon.write("gate.log", gate_lines(5));
  daemon.start();
  const std::string text = daemon.problem();
  EXPECT_NE(text.find("its column `time` must be timestamptz"), std::string::npos) << text;
  server->query("DROP TABLE gate");
  daemon.settled();
  EXPECT_EQ(server->value("SELECT count(*) FROM gate"), "5");
}

TEST_F(PostgresDestination, APartitionThatWasDroppedIsMadeAgain) {
  Daemon daemon(destination());
  daemon.write("gate.log", gate_lines(30));
  daemon.start();
  daemon.settled();
  server->query("DROP TABLE gate_2026_11_21");
  daemon.write("gate.log", gate_line(31) + gate_line(33));
  const Json status = daemon.settled();
  EXPECT_EQ(find(status["destinations"], "d")["set_aside"], 0);
  EXPECT_EQ(server->value("SELECT string_agg(status::text, ' ' ORDER BY status) FROM gate WHERE status > 29"),
            "31 33");
}

TEST_F(PostgresDestination, AColumnThatNothingFillsIsNamed) {
  server->query("CREATE TABLE gate(time timestamptz, body text, fields jsonb, quay text NOT NULL)");
  Daemon daemon(destination());
  daemon.write("gate.log", gate_lines(5));
  daemon.start();
  const std::string text = daemon.problem();
  EXPECT_NE(text.find("`quay` may not be null, but nothing fills it"), std::string::npos) << text;
  server->query("ALTER TABLE gate ALTER quay SET DEFAULT 'north'");
  const Json status = daemon.settled();
  EXPECT_EQ(server->value("SELECT count(*) FROM gate"), "5");
  EXPECT_EQ(find(status["destinations"], "d")["set_aside"], 0);
}

TEST_F(PostgresDestination, AWrongHostIsNamed) {
  Daemon daemon(
      gate_configuration("    postgres: { connect: 'host=127.0.0.1 port=1 user=x', table: gate }\n"));
  daemon.write("gate.log", gate_lines(5));
  daemon.start();
  const std::string text = daemon.problem();
  EXPECT_NE(text.find("Connection refused"), std::string::npos) << text;
}

TEST(IndexDestination, KeepsTheFieldsThatWereChosen) {
  Daemon daemon(
      gate_configuration("    index: { events: { fields: [status, user], rename: { user: who } } }\n"));
  daemon.write("gate.log", gate_line(1));
  daemon.start();
  daemon.settled();
  Json e = daemon.events("who = 'anna' and body = ''").at(0);
  for (const char* always : {"timestamp", "observed_timestamp", "dingle.pipeline", "dingle.configuration"})
    EXPECT_TRUE(e.contains(always)) << e, e.erase(always);
  EXPECT_EQ(e["status"], 1);
  EXPECT_FALSE(e.contains("service.name")) << e;
}

TEST(ClickHouseDestination, TakesBulkInserts) {
  if (!ClickHouseServer::installed()) GTEST_SKIP() << "ClickHouse is not installed";
  ClickHouseServer server;
  server.query(
      "CREATE TABLE gate(day Date DEFAULT toDate(timestamp), timestamp DateTime, body String, status Int64, "
      "id String) "
      "ENGINE = ReplacingMergeTree(day, (id), 8192)");
  Daemon daemon(gate_configuration(
      "    http:\n      url: '" + server.url() +
      "/?query=INSERT%20INTO%20gate%20FORMAT%20JSONEachRow'\n      compression: gzip\n      "
      "events: { fields: "
      "[timestamp, body, status, dingle.id], rename: { dingle.id: id }, time: seconds }\n"));
  daemon.write("gate.log", gate_lines(5000));
  daemon.start();
  daemon.settled();
  EXPECT_EQ(server.query("SELECT count(*), uniqExact(id), sum(status) FROM gate"), "5000\t5000\t12497500\n");
}

TEST(HttpDestination, FramesAuthorisesAndReadsAnswersForEachEvent) {
  Received received;
  int tries = 0;
  Service service([&](const HttpRequest& request, HttpAnswer& answer) {
    received.add(request);
    Json items = Json::array();
    std::istringstream in(request.body);
    for (std::string before, event; std::getline(in, before) && std::getline(in, event);) {
      const int status = Json::parse(event)["status"];
      items.push_back({{"put",
                        {{"code", status == 7                ? 400
                                  : status == 8 && tries < 2 ? 429
                                                             : 201},
                         {"why", "mapping " + std::to_string(status)}}}});
    }
    ++tries;
    answer.body = Json{{"results", items}}.dump();
  });
  ::setenv("GATE_TOKEN", "hush-hush", 1);
  Daemon daemon(gate_configuration(
      "    http: { url: '" + service.url("/events") +
      "', auth: { bearer: { env: GATE_TOKEN } }, body: { before: '{\"put\":{}}' }, answer: { "
      "each: /results, code: '/*/code', why: '/*/why' } }\n"));
  daemon.write("gate.log", gate_lines(20));
  daemon.start();
  const Json status = daemon.settled();
  EXPECT_EQ(find(status["destinations"], "d")["set_aside"], 1);
  EXPECT_EQ(find(status["destinations"], "d")["sent"], 19);
  EXPECT_GE(find(status["destinations"], "d")["retried"].get<int>(), 1);
  EXPECT_NE(daemon.dingle({"letters"}).out.find("mapping 7"), std::string::npos);
  EXPECT_EQ(received.requests.at(0).header("Authorization"), "Bearer hush-hush");
  EXPECT_EQ(received.requests.at(0).header("Content-Type"), "application/x-ndjson");
  EXPECT_EQ(daemon.log().find("hush-hush"), std::string::npos);
  EXPECT_EQ(status.dump().find("hush-hush"), std::string::npos);
}

TEST(HttpDestination, AnEndlessAnswerCostsLittleMemory) {
  const std::string long_answer(60u << 20, 'x');
  Service service([&](const HttpRequest&, HttpAnswer& answer) { answer.body = long_answer; });
  for (const bool reads : {false, true}) {
    Daemon daemon(gate_configuration(
        "    http: { url: '" + service.url("/events") + "'" +
        (reads ? ", answer: { each: /results, code: '/*/code', why: '/*/why' }" : "") + " }\n"));
    daemon.write("gate.log", gate_lines(3));
    daemon.start();
    if (reads)
      EXPECT_NE(daemon.problem("longer than 4 MiB"), "");
    else
      EXPECT_EQ(find(daemon.settled()["destinations"], "d")["sent"], 3);
    const std::string memory = read_file("/proc/" + std::to_string(daemon.pid()) + "/status");
    const std::size_t at = memory.find("VmHWM:");
    ASSERT_NE(at, std::string::npos);
    const bool sanitized = std::getenv("DINGLE_DAEMON") != nullptr;  // it takes much more
    EXPECT_TRUE(sanitized || std::stol(memory.substr(at + 6)) < 60'000) << memory.substr(at, 30);
  }
}

TEST(HttpDestination, GroupsEventsAndFillsTemplates) {
  Received received;
  Service service([&](const HttpRequest& request, HttpAnswer&) { received.add(request); });
  Daemon daemon(gate_configuration(
      "    http:\n      url: '" + service.url("/lines/${user}") +
      "'\n      group_by: [user]\n      body: { form: template, begin: "
      "'{\"user\":${user},\"count\":${count},\"lines\":[', event: "
      "'[\"${timestamp:text}\",${body}]', between: ',', end: ']}' }\n      events: { time: "
      "nanoseconds }\n"));
  daemon.write("gate.log", gate_line(1, "anna") + gate_line(2, "bo\"x\"") + gate_line(3, "anna"));
  daemon.start();
  daemon.settled();
  ASSERT_EQ(received.requests.size(), 2u);
  const Json first = Json::parse(received.requests[0].body);
  EXPECT_EQ(first["user"], "anna");
  EXPECT_EQ(first["count"], 2);
  EXPECT_EQ(first["lines"][0][0], "1795255201000000000");
  EXPECT_EQ(Json::parse(received.requests[1].body)["user"], "bo\"x\"");
}

TEST(HttpDestination, AnOverloadedServiceIsWaitedForAndABadBatchIsHalved) {
  Received received;
  std::atomic<int> requests{0};
  Service service([&](const HttpRequest& request, HttpAnswer& answer) {
    const int n = ++requests;
    if (n == 1) return answer.status = 503, void();
    if (n == 2) return answer.status = 429, answer.headers.emplace_back("Retry-After", "1"), void();
    if (request.body.find("192.0.2.77 ") != std::string::npos) {
      answer.status = 400;
      return answer.body = "cannot read it", void();
    }
    received.add(request);
  });
  Daemon daemon(gate_configuration("    http: { url: '" + service.url() + "', requests: 4 }\n"));
  daemon.write("gate.log", gate_lines(200));
  daemon.start();
  const Json status = daemon.settled();
  EXPECT_EQ(find(status["destinations"], "d")["sent"], 199);
  EXPECT_EQ(find(status["destinations"], "d")["set_aside"], 1);
  EXPECT_NE(daemon.dingle({"letters"}).out.find("cannot read it"), std::string::npos);
}

TEST(HttpDestination, ASlowServiceGetsFewerEventsAtOnce) {
  std::atomic<long> taken{0};
  Service service([&](const HttpRequest& request, HttpAnswer&) {
    const auto lines = std::count(request.body.begin(), request.body.end(), '\n');
    std::this_thread::sleep_for(lines * 2ms);
    if (lines < 150) taken += lines;  // else nobody waits for the answer
  });
  Daemon daemon(gate_configuration("    http: { url: '" + service.url() + "', timeout: 300ms }\n"));
  daemon.write("gate.log", gate_lines(1000));
  daemon.start();
  EXPECT_NE(daemon.problem().find("timed out"), std::string::npos) << daemon.problem();
  EXPECT_EQ(find(daemon.settled()["destinations"], "d")["sent"], 1000);
  EXPECT_GE(taken, 1000) << "at least once";
  EXPECT_NE(daemon.dingle({"status"}).out.find("is too slow for more than"), std::string::npos);
}

}  // namespace
}  // namespace dingle
