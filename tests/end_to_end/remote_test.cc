// Agents that feed the store of another dingled, over TLS.
#include <gtest/gtest.h>

#include <chrono>
#include <filesystem>
#include <fstream>
#include <thread>

#include "tests/end_to_end/daemon.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

class Remote : public testing::Test {
 protected:
  const std::string token = "northquay-0123456789abcdef0123456789abcdef",
                    other = "southpier-0123456789abcdef0123456789abcdef";
  std::string folder = make_folder();
  std::unique_ptr<Daemon> logs, agent;

  void SetUp() override {
    make_certificate(folder);
    std::ofstream(folder + "/token") << token << "\n";
    port = free_port();
    logs = std::make_unique<Daemon>(
        "sources: { none: { files: { paths: ['{dir}/logs/*.log'] } } }\npipelines: { none: { "
        "from: [none], to: [all] } }\ndestinations: { all: { index: { name: unused } } }\n",
        "tls: { certificate: '" + folder + "/certificate.pem', key: '" + folder +
            "/key.pem' }, agents: { northquay: { file: '" + folder + "/token' }, southpier: { file: '" +
            folder + "/other' } }");
    std::ofstream(folder + "/other") << other << "\n";
    logs->arguments = {"--listen", "127.0.0.1:" + std::to_string(port)};
    agent = std::make_unique<Daemon>(configuration(folder + "/token", folder + "/certificate.pem"));
  }
  std::string configuration(const std::string& token_file, const std::string& ca) const {
    return R"(
sources: { numbered: { files: { paths: ['{dir}/logs/*.log'] } } }
pipelines:
  numbered:
    from: [numbered]
    steps: [ parse: { templates: ['{file:word} {n:int} {at:rfc3339} {share:decimal} {client.address:ip} {tags:list}'] } ]
    to: [remote]
destinations:
  remote:
    retry: { first: 10ms, longest: 200ms }
    index: { name: 'numbered-{day}', at: 'https://127.0.0.1:)" +
           std::to_string(port) + "', token: { file: '" + token_file + "' }, tls: { ca: '" + ca + "' } }\n";
  }
  static std::string lines(int from, int to) {
    std::string text;
    for (int n = from; n < to; ++n)
      text += "alpha " + std::to_string(n) + " 2026-11-23T10:00:00Z 3 192.0.2.7 [a,b]\n";
    return text;
  }
  int port = 0;
};

TEST_F(Remote, ExactlyOnceThroughKillsOfBoth) {
  logs->start();
  agent->start();
  int n = 0;
  for (int round = 0; round < 6; ++round) {
    for (int i = 0; i < 20; ++i, n += 100) agent->write("alpha.log", lines(n, n + 100));
    Daemon& victim = round % 2 ? *logs : *agent;
    std::this_thread::sleep_for(std::chrono::milliseconds(30 + 20 * round));
    victim.kill();
    victim.start();
  }
  const Json status = agent->settled();
  EXPECT_TRUE(status["balanced"]);
  std::vector<Json> events = logs->events("n < 6000"), rest = logs->events("n >= 6000");
  events.insert(events.end(), rest.begin(), rest.end());
  ASSERT_EQ(events.size(), static_cast<std::size_t>(n));
  for (int i = 0; i < n; ++i) ASSERT_EQ(events[static_cast<std::size_t>(i)]["n"], i);
  const Json& first = events[0];
  EXPECT_EQ(first["dingle.pipeline"], "numbered");
  EXPECT_EQ(first["client.address"], "192.0.2.7");
  EXPECT_EQ(logs->events("share = 3.0", 10).size(), 10u);
  const Ran types = logs->dingle({"search", "n = 5", "--types", "-o", "ndjson"});
  if (types.status == 0) {
    const Json event = Json::parse(types.out);
    EXPECT_EQ(event["dingle.types"]["share"], "decimal");
    EXPECT_EQ(event["dingle.types"]["at"], "timestamp");
    EXPECT_EQ(event["dingle.types"]["tags"], "list");
  }
}

TEST_F(Remote, AnAgentsTokenMayOnlyWrite) {
  logs->start();
  auto curl = [&](const std::string& path, const std::string& bearer) {
    return run_program({"/usr/bin/curl", "-s", "-o", "/dev/null", "-w", "%{http_code}", "--cacert",
                        folder + "/certificate.pem", "-H", "Authorization: Bearer " + bearer,
                        "https://127.0.0.1:" + std::to_string(port) + path})
        .out;
  };
  EXPECT_EQ(curl("/v1/status", token), "403");
  EXPECT_EQ(curl("/v1/events", token), "403");
  EXPECT_EQ(curl("/v1/status", "wrong"), "401");
  EXPECT_EQ(curl("/v1/status", logs->token()), "200");
  EXPECT_EQ(curl("/v1/handover", token), "405") << "GET";
}

TEST_F(Remote, ASpoolIsTheAgentsThatBroughtItFirst) {
  logs->start();
  auto ask = [&](const std::string& spool, const std::string& bearer) {
    return run_program(
               {"/usr/bin/curl", "-s", "-w", "%{http_code}", "--cacert", folder + "/certificate.pem", "-H",
                "Authorization: Bearer " + bearer, "--data", "",
                "https://127.0.0.1:" + std::to_string(port) +
                    "/v1/handover?epoch=1&nonce=2&sender=3&after_epoch=0&after_number=0&spool=" + spool})
        .out;
  };
  auto status_of = [](const std::string& answer) {
    return answer.substr(answer.size() - std::min<std::size_t>(3, answer.size()));
  };
  EXPECT_EQ(status_of(ask("7", token)), "200") << ask("7", token);
  EXPECT_NE(ask("7", other).find("belongs to the agent `northquay`"), std::string::npos) << ask("7", other);
  EXPECT_EQ(status_of(ask("7", other)), "403");
  EXPECT_EQ(status_of(ask("8", other)), "200");
  logs->terminate();
  logs->start();
  EXPECT_EQ(status_of(ask("7", other)), "403") << "it is remembered";
  EXPECT_EQ(status_of(ask("7", token)), "200");
  EXPECT_EQ(status_of(ask("7", logs->token())), "200") << "the program's own token may do all";
}

TEST_F(Remote, AWrongTokenAndAnUnknownCertificateAreNamed) {
  logs->start();
  std::ofstream(folder + "/wrong") << "not-the-token-of-anybody-at-all";
  agent->configure(configuration(folder + "/wrong", folder + "/certificate.pem"));
  agent->write("alpha.log", lines(0, 10));
  agent->start();
  EXPECT_NE(agent->problem().find("401: this is not the token"), std::string::npos) << agent->problem();
  // The token is mended where it is kept; a reload reads it again.
  std::ofstream(folder + "/wrong", std::ios::trunc) << token;
  EXPECT_EQ(agent->dingle({"reload"}).status, 0);
  agent->settled();
  EXPECT_EQ(logs->events("n >= 0").size(), 10u);
  agent->terminate();
  make_certificate(folder);  // another one than the agent trusts
  agent->configure(configuration(folder + "/token", "/etc/ssl/certs/ca-certificates.crt"));
  agent->write("alpha.log", lines(10, 20));
  agent->start();
  EXPECT_NE(agent->problem().find("certificate"), std::string::npos) << agent->problem();
  EXPECT_EQ(agent->log().find(token), std::string::npos);
}

TEST_F(Remote, AnExpiredCertificateIsNamedAndNothingIsLost) {
  make_certificate(folder, -1);
  logs->start();
  agent->write("alpha.log", lines(0, 10));
  agent->start();
  EXPECT_NE(agent->problem().find("certificate has expired"), std::string::npos) << agent->problem();
  logs->kill();
  make_certificate(folder);
  logs->start();
  agent->dingle({"reload"});  // it trusts the new one
  agent->settled();
  EXPECT_EQ(logs->events("n >= 0").size(), 10u);
}

TEST_F(Remote, AStoreRestoredFromABackupIsSentWhatItLacks) {
  logs->start();
  agent->start();
  agent->write("alpha.log", lines(0, 100));
  agent->settled();
  logs->kill();
  const std::string data = logs->dir + "/data", saved = logs->dir + "/saved";
  std::filesystem::copy(data, saved, std::filesystem::copy_options::recursive);
  logs->start();
  agent->write("alpha.log", lines(100, 200));
  agent->settled();
  logs->kill();
  std::filesystem::remove_all(data);
  std::filesystem::rename(saved, data);
  logs->start();
  EXPECT_EQ(logs->events("n >= 0").size(), 100u);
  agent->write("alpha.log", lines(200, 210));
  agent->settled();
  EXPECT_TRUE(eventually([&] { return logs->events("n >= 0").size() >= 210; }));
  const auto events = logs->events("n >= 0");
  ASSERT_EQ(events.size(), 210u);
  for (std::size_t i = 0; i < events.size(); ++i) EXPECT_EQ(events[i]["n"], i);
  EXPECT_NE(agent->problem("restored from a backup").find("restored from a backup"), std::string::npos)
      << agent->problem();
}

// An index that was deleted on purpose does not come back.
TEST_F(Remote, ADeletedIndexIsNotSentAgain) {
  logs->start();
  agent->start();
  agent->write("alpha.log", lines(0, 100));
  agent->settled();
  const Json indexes = Json::parse(logs->dingle({"indexes", "-o", "json"}).out);
  EXPECT_EQ(logs->dingle({"indexes", "delete", indexes.at(0).at("name")}).status, 0) << indexes.dump();
  logs->kill();
  logs->start();
  agent->write("alpha.log", lines(100, 110));
  agent->settled();
  EXPECT_EQ(logs->events("n >= 0").size(), 10u);
}

TEST_F(Remote, ConfigurationsThatWouldSendInTheClearAreRefused) {
  const std::string path = folder + "/wrong.yaml";
  auto check = [&](const std::string& secret) {
    std::ofstream(path)
        << "version: 1\nserver: { listen: '0.0.0.0:3464' }\nsources: { s: { files: { paths: [/x] } } }\n"
           "pipelines: { p: { from: [s], to: [d] } }\ndestinations: { d: { index: { at: "
           "'http://logs.example:3464', token: " +
               secret + " } } }\n";
    const Ran ran = run_program({std::string(DINGLE_BINARIES) + "/dingle", "check", path});
    EXPECT_EQ(ran.status, 1);
    return ran.out + ran.err;
  };
  std::string all = check("hush");
  EXPECT_NE(all.find("listening beyond the loopback needs `tls`"), std::string::npos) << all;
  EXPECT_NE(all.find("the secret `token` stands in the configuration itself"), std::string::npos) << all;
  EXPECT_EQ(all.find("hush"), std::string::npos) << "what is secret is not shown: " << all;
  all = check("{ env: TOKEN }");
  EXPECT_NE(all.find("`at` begins with https://"), std::string::npos) << all;
}

}  // namespace
}  // namespace dingle
