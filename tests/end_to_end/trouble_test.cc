// What keeps events from a destination: named plainly at once, nothing lost, and over when its cause is.
#include <gtest/gtest.h>

#include <atomic>
#include <filesystem>
#include <fstream>

#include "tests/end_to_end/gate.h"
#include "tests/end_to_end/servers.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

class PostgresTrouble : public testing::Test {
 protected:
  void SetUp() override {
    if (!PostgresServer::installed()) GTEST_SKIP() << "PostgreSQL is not installed";
    server = std::make_unique<PostgresServer>();
  }
  static std::string destination(const std::string& connect, const std::string& more = "") {
    return gate_configuration("    postgres: { connect: '" + connect +
                              "', table: gate, columns: { status: int }" + more + " }\n");
  }
  std::string of_user(const std::string& more) const {
    return "host=127.0.0.1 port=" + std::to_string(server->port()) + " dbname=postgres user=dingle " + more;
  }
  std::string count() { return server->value("SELECT count(*) || ' ' || count(DISTINCT status) FROM gate"); }
  std::unique_ptr<PostgresServer> server;
};

// What a problem says at once (a second; some when the machine is busy), and once, in status and log; nothing
// is sent.
void expect_problem(Daemon& daemon, const std::string& text) {
  const auto begin = std::chrono::steady_clock::now();
  const std::string problem = daemon.problem();
  EXPECT_NE(problem.find(text), std::string::npos) << problem;
  EXPECT_LT(std::chrono::steady_clock::now() - begin, 15s);
  std::this_thread::sleep_for(500ms);  // further tries
  const std::string log = daemon.log();
  const std::size_t first = log.find(text);
  EXPECT_NE(first, std::string::npos) << log;
  EXPECT_EQ(log.find(text, log.find('\n', first)), std::string::npos) << "told again: " << log;
  EXPECT_EQ(daemon.status()["destinations"][0]["waiting"], 100);
}

TEST_F(PostgresTrouble, AWrongPassword) {
  server->query(
      "SET password_encryption = 'scram-sha-256'; CREATE ROLE dingle LOGIN SUPERUSER PASSWORD 'north-quay'");
  server->query(
      "COPY (VALUES ('host all dingle 127.0.0.1/32 scram-sha-256'), ('host all postgres 127.0.0.1/32 "
      "trust')) TO '" +
      server->value("SHOW hba_file") + "'");
  server->query("SELECT pg_reload_conf()");
  Daemon daemon("");
  const std::string file = daemon.dir + "/password";
  std::ofstream(file) << "salt-holm\n";
  daemon.configure(destination(of_user(""), ", password: { file: '" + file + "' }"));
  daemon.write("gate.log", gate_lines(100));
  daemon.start();
  expect_problem(daemon, "password authentication failed for user");
  std::ofstream(file) << "north-quay\n";
  EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
  daemon.settled();
  EXPECT_EQ(count(), "100 100");
  EXPECT_EQ(daemon.log().find("north-quay"), std::string::npos);
}

TEST_F(PostgresTrouble, AnUnknownCertificate) {
  const std::string folder = make_folder(),
                    data = std::filesystem::path(server->value("SHOW hba_file")).parent_path();
  make_certificate(folder);
  for (const char* name : {"key.pem", "certificate.pem"}) {
    std::filesystem::copy(folder + "/" + name, data + "/" + name);
    run_program({"/bin/chown", "postgres", data + "/" + name});
    std::filesystem::permissions(data + "/" + name, std::filesystem::perms::owner_read);
  }
  server->query("CREATE ROLE dingle LOGIN SUPERUSER");
  server->query("ALTER SYSTEM SET ssl_key_file = 'key.pem'");
  server->query("ALTER SYSTEM SET ssl_cert_file = 'certificate.pem'");
  server->query("ALTER SYSTEM SET ssl = on");
  server->query("SELECT pg_reload_conf()");
  const std::string secure = "sslmode=verify-full sslrootcert=";
  Daemon daemon(destination(of_user(secure + "/etc/ssl/certs/ca-certificates.crt")));
  daemon.write("gate.log", gate_lines(100));
  daemon.start();
  expect_problem(daemon, "certificate verify failed");
  daemon.configure(destination(of_user(secure + folder + "/certificate.pem")));
  EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
  daemon.settled();
  EXPECT_EQ(count(), "100 100");
  EXPECT_EQ(
      server->value(
          "SELECT bool_and(ssl) FROM pg_stat_ssl JOIN pg_stat_activity USING (pid) WHERE usename = 'dingle'"),
      "t");
}

TEST_F(PostgresTrouble, AFullDiskIsWaitedFor) {
  server->query(
      "CREATE TABLE gate(time timestamptz, body text, fields jsonb, status bigint); CREATE FUNCTION "
      "full_disk() RETURNS trigger "
      "LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'could not extend file: No space left on device' USING "
      "ERRCODE = "
      "'disk_full'; END $$; CREATE TRIGGER full_disk BEFORE INSERT ON gate FOR EACH STATEMENT EXECUTE "
      "FUNCTION full_disk()");
  Daemon daemon(destination(server->connect()));
  daemon.write("gate.log", gate_lines(100));
  daemon.start();
  expect_problem(daemon, "No space left on device");
  server->query("DROP TRIGGER full_disk ON gate");
  daemon.settled();
  EXPECT_EQ(count(), "100 100");
}

// Of several hosts the one that is there is taken; it is sent what it lacks.
TEST_F(PostgresTrouble, FailOverToAnotherHost) {
  PostgresServer second;
  Daemon daemon(destination("host=127.0.0.1,127.0.0.1 port=" + std::to_string(server->port()) + "," +
                            std::to_string(second.port()) + " dbname=postgres user=postgres"));
  daemon.write("gate.log", gate_lines(100));
  daemon.start();
  daemon.settled();
  EXPECT_EQ(count(), "100 100");
  server->kill();
  for (int i = 100; i < 200; ++i) daemon.write("gate.log", gate_line(i));
  daemon.settled();
  EXPECT_EQ(second.value("SELECT count(*) || ' ' || count(DISTINCT status) FROM gate"), "200 200");
  EXPECT_EQ(daemon.status()["destinations"][0]["restored"], 1);
}

TEST(HttpTrouble, AnAnswerThatIsNotWhatWasAskedFor) {
  std::atomic<int> form{0};
  Service service([&](const HttpRequest& request, HttpAnswer& answer) {
    const auto events = std::count(request.body.begin(), request.body.end(), '\n');
    Json items = Json::array();
    for (long i = form == 2; i < events; ++i) items.push_back({{"code", 201}});
    answer.body = form == 0 ? "<html>Welcome to Northquay" : form == 1 ? "{}" : Json{{"items", items}}.dump();
  });
  Daemon daemon(gate_configuration("    http: { url: '" + service.url() +
                                   "', answer: { each: /items, code: /code, why: /why } }\n"));
  daemon.write("gate.log", gate_lines(100));
  daemon.start();
  expect_problem(daemon, "the answer is not JSON: <html>Welcome to Northquay");
  form = 1;
  const std::string none = "has no list at /items", few = "tells of 99 events, not of 100";
  EXPECT_NE(daemon.problem(none).find(none), std::string::npos) << daemon.problem();
  form = 2;
  EXPECT_NE(daemon.problem(few).find(few), std::string::npos) << daemon.problem();
  form = 3;
  EXPECT_EQ(daemon.settled()["destinations"][0]["sent"], 100);
}

TEST(HttpTrouble, AnswersThatNeverComeOpenTheCircuit) {
  std::atomic<bool> answers{false};
  Service service([&](const HttpRequest&, HttpAnswer&) { eventually([&] { return answers.load(); }); });
  Daemon daemon(gate_configuration("    http: { url: '" + service.url() + "', timeout: 300ms }\n"));
  daemon.write("gate.log", gate_lines(10));
  daemon.start();
  auto is = [&](const char* state) {
    return eventually([&] { return daemon.status()["destinations"][0]["circuit"] == state; });
  };
  EXPECT_NE(daemon.problem().find("timed out"), std::string::npos);
  EXPECT_TRUE(is("open"));
  EXPECT_TRUE(is("half_open"));
  EXPECT_NE(daemon.dingle({"status"}).out.find("circuit "), std::string::npos);
  answers = true;
  EXPECT_TRUE(is("closed"));
  EXPECT_EQ(daemon.settled()["destinations"][0]["sent"], 10);
}

TEST(HttpTrouble, AnUnknownHost) {
  Service service([](const HttpRequest&, HttpAnswer&) {});
  Daemon daemon(gate_configuration("    http: { url: 'http://no-such-host.invalid/' }\n"));
  daemon.write("gate.log", gate_lines(10));
  daemon.start();
  EXPECT_NE(daemon.problem().find("Could not resolve host: no-such-host.invalid"), std::string::npos)
      << daemon.problem();
  daemon.configure(gate_configuration("    http: { url: '" + service.url() + "' }\n"));
  EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
  EXPECT_EQ(daemon.settled()["destinations"][0]["sent"], 10);
}

// The service refuses some; letters are listed, counted, shown, sent again as they were or through the
// pipeline as it is now, and discarded.
TEST(Letters, EveryCommand) {
  std::atomic<bool> strict{true};
  Received received;
  Service service([&](const HttpRequest& request, HttpAnswer& answer) {
    if (strict && request.body.find("\"bo\"") != std::string::npos)
      return answer.status = 422, answer.body = "who is bo?", void();
    if (request.body.find("\"carl\"") != std::string::npos)
      return answer.status = 400, answer.body = "carl may not pass", void();
    received.add(request);
  });
  const std::string text = gate_configuration("    http: { url: '" + service.url() + "' }\n");
  Daemon daemon(text);
  daemon.write("gate.log",
               gate_line(1) + gate_line(2, "bo") + gate_line(3, "carl") + gate_line(4, "bo") + gate_line(5));
  daemon.start();
  daemon.settled();
  auto letters = [&](std::vector<std::string> more, int status = 0) {
    more.insert(more.begin(), "letters");
    const Ran ran = daemon.dingle(more);
    EXPECT_EQ(ran.status, status) << ran.err;
    return ran.out;
  };
  const Json aside = daemon.status()["destinations"][0]["letters_by_reason"];
  ASSERT_EQ(aside.size(), 2u) << aside;
  EXPECT_EQ(aside[0]["letters"], 2);
  EXPECT_NE(daemon.dingle({"status"}).out.find("      1: "), std::string::npos);
  const Json reasons = Json::parse(letters({"--by-reason", "-o", "json"}, 1));
  ASSERT_EQ(reasons.size(), 2u) << reasons;
  EXPECT_EQ(reasons[0]["letters"], 2);
  EXPECT_NE(reasons[0]["reason"].get<std::string>().find("who is bo?"), std::string::npos);
  EXPECT_NE(letters({"--reason", "carl"}, 1).find("192.0.2.3 carl 3"), std::string::npos);
  const std::string id = reasons[1]["example"].dump();
  const Json letter = Json::parse(letters({"show", id, "-o", "json"}));
  EXPECT_EQ(letter["attempts"], 1);
  EXPECT_EQ(letter["destination"], "d");
  EXPECT_EQ(letter["event"]["user"], "carl");
  letters({"show", "999"}, 1);
  letters({"discard"}, 2);  // which?
  EXPECT_EQ(letters({"discard", id}), "discarded 1 letter\n");
  EXPECT_EQ(daemon.status()["destinations"][0]["letters_by_reason"].size(), 1u);

  // The pipeline learns to leave the name out.
  std::string changed = text;
  changed.insert(changed.find("      - time: {"), "      - omit: { fields: [user] }\n");
  daemon.configure(changed);
  EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
  const std::string one = std::to_string(Json::parse(letters({"-o", "json"}, 1))[0]["id"].get<int>());
  EXPECT_EQ(letters({"resend", one, "--through-pipeline"}), "resent 1 letter\n");
  daemon.settled();
  EXPECT_EQ(received.requests.back().body.find("\"user\""), std::string::npos)
      << received.requests.back().body;
  strict = false;
  EXPECT_EQ(letters({"resend", "--all"}), "resent 1 letter\n");
  const Json status = daemon.settled();
  EXPECT_NE(received.requests.back().body.find("\"bo\""), std::string::npos) << received.requests.back().body;
  EXPECT_EQ(letters({}), "no letters are kept\n");
  EXPECT_TRUE(status["balanced"]) << status["balance"];
}

TEST(Letters, LinesGoThroughTheirSourceAsItIsNow) {
  std::atomic<bool> strict{true};
  Received received;
  Service service([&](const HttpRequest& request, HttpAnswer& answer) {
    if (strict) return answer.status = 422, void();
    received.add(request);
  });
  const std::string ends = R"(
      - parse: { templates: ['{at:time("%Y-%m-%d %H:%M:%S")} {ship}'] }
      - time: { field: at }
    to: [d]
destinations: { d: { http: { url: ')" +
                           service.url() + "', events: { fields: [timestamp, ship] } } } }\n";
  const auto configuration = [&](const std::string& source, const std::string& more) {
    return "sources: { " + source + ": { files: { paths: ['{dir}/logs/*.log'] }, " + more +
           " } }\npipelines:\n  p:\n    from: [" + source + "]\n    steps:" + ends;
  };
  Daemon daemon(configuration("gate", ""));
  daemon.write("gate.log", "2026-11-23 10:00:00 Tern\n");
  daemon.start();
  daemon.settled();
  daemon.configure(configuration("entry", "was: gate, zone: Europe/Oslo"));
  EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
  strict = false;
  const Ran ran = daemon.dingle({"letters", "resend", "--all", "--through-pipeline"});
  EXPECT_EQ(ran.out, "resent 1 letter\n") << ran.err;
  daemon.settled();
  ASSERT_EQ(received.requests.size(), 1u);
  EXPECT_EQ(Json::parse(received.requests[0].body),
            (Json{{"timestamp", "2026-11-23T09:00:00Z"}, {"ship", "Tern"}}));
}

}  // namespace
}  // namespace dingle
