// Tokens with names: what each may, over reloads, restarts and removal.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <fstream>

#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"

namespace dingle {
namespace {

constexpr const char* kConfiguration =
    "sources: { gate: { files: { paths: ['{dir}/logs/*.log'] } } }\n"
    "pipelines: { gate: { from: [gate], to: [store] } }\ndestinations: { store: { index: {} } }\n";

class NamedTokens : public testing::Test {
 protected:
  Daemon daemon{kConfiguration};
  void SetUp() override {
    daemon.write("gate.log", "a ferry\n");
    daemon.start();
  }
  std::string add(const std::string& name, const std::string& may) {
    const Ran ran = daemon.dingle({"token", "add", name, "--may", may});
    EXPECT_EQ(ran.status, 0) << ran.err;
    return ran.out.substr(0, ran.out.find('\n'));
  }
  long status(const std::string& token, const std::string& method, const std::string& path,
              const std::string& body = "") {
    return Caller("http://" + daemon.address(), token).call(method, path, body, "application/json").status;
  }
};

TEST_F(NamedTokens, EachMayWhatItsScopesSay) {
  daemon.settled();
  const std::map<std::string, std::string> tokens{{"read", add("reader", "read")},
                                                  {"lines", add("looker", "lines")},
                                                  {"edit", add("editor", "edit,read")},
                                                  {"operate", add("operator", "operate")}};
  const struct {
    std::string method, path, body, scope;
  } calls[] = {{"GET", "/v1/status", "", "read"},
               {"GET", "/v1/events", "", "read"},
               {"GET", "/metrics", "", "read"},
               {"GET", "/v1/versions", "", "read"},
               {"GET", "/v1/lines?source=gate", "", "lines"},
               {"GET", "/v1/unmatched?pipeline=gate", "", "lines"},
               {"GET", "/v1/leftovers", "", "lines"},
               {"POST", "/v1/reload", "{}", "edit"},
               {"POST", "/v1/letters/discard", "{\"all\":true}", "operate"},
               {"GET", "/v1/imports/reads", "", "operate"},
               {"GET", "/v1/tokens", "", "none"},
               {"POST", "/v1/tokens", "{\"name\":\"more\",\"scopes\":[\"edit\"]}", "none"},
               {"DELETE", "/v1/tokens/reader", "", "none"},
               {"POST", "/v1/handover?spool=1&epoch=1&nonce=1&sender=1", "", "none"}};
  for (const auto& c : calls)
    for (const auto& [scope, token] : tokens) {
      const bool may = scope == c.scope || (scope == "edit" && c.scope == "read");
      EXPECT_EQ(status(token, c.method, c.path, c.body), may ? 200 : 403) << scope << " " << c.path;
    }
  const HttpReply refused = Caller("http://" + daemon.address(), tokens.at("read")).post("/v1/reload", "{}");
  EXPECT_NE(refused.body.find("a token with the scope `edit`"), std::string::npos) << refused.body;
  EXPECT_EQ(Caller("http://" + daemon.address(), tokens.at("read")).get("/v1/watch?dropped=true").status,
            403);
  daemon.configure(std::string(kConfiguration) + "# the same\n");
  EXPECT_EQ(status(tokens.at("edit"), "POST", "/v1/reload", "{\"who\":\"anna\"}"), 200);
  EXPECT_NE(daemon.dingle({"versions"}).out.find("anna (token editor)"), std::string::npos) << "by whom";
}

TEST_F(NamedTokens, AreKeptListedAndRemoved) {
  const std::string token = add("harbour-office", "read,operate");
  EXPECT_EQ(token.size(), 64u);
  const Ran again = daemon.dingle({"token", "add", "harbour-office", "--may", "read"});
  EXPECT_EQ(again.status, 1);
  EXPECT_NE(again.err.find("there is a token `harbour-office` already"), std::string::npos);
  EXPECT_NE(daemon.dingle({"token", "add", "x", "--may", "raed"}).err.find("did you mean `read`?"),
            std::string::npos);
  EXPECT_NE(daemon.dingle({"token", "add", "a b", "--may", "read"}).err.find("letters, digits"),
            std::string::npos);
  EXPECT_NE(daemon.dingle({"token", "list"}).out.find("never"), std::string::npos);
  daemon.kill();
  daemon.start();
  EXPECT_EQ(status(token, "GET", "/v1/status"), 200);
  const Json listed = Json::parse(daemon.dingle({"token", "list", "-o", "json"}).out);
  ASSERT_EQ(listed.size(), 1u) << listed;
  EXPECT_EQ(listed[0]["scopes"], (Json{"read", "operate"}));
  EXPECT_FALSE(listed[0]["used"].is_null());
  struct stat info;
  ASSERT_EQ(::stat((daemon.dir + "/data/tokens.sqlite").c_str(), &info), 0);
  EXPECT_EQ(info.st_mode & 0777, 0600u);
  for (const char* file : {"/data/tokens.sqlite", "/data/tokens.sqlite-wal"})
    EXPECT_EQ(read_file(daemon.dir + file).find(token), std::string::npos) << "a hash is kept, not the token";
  EXPECT_EQ(daemon.log().find(token), std::string::npos);

  // Given to somebody without the data folder.
  std::ofstream(daemon.dir + "/given") << token << "\n";
  const Ran elsewhere = run_program({std::string(DINGLE_BINARIES) + "/dingle", "--token",
                                     daemon.dir + "/given", "--server", daemon.address(), "status"});
  EXPECT_EQ(elsewhere.status, 0) << elsewhere.err;
  EXPECT_EQ(daemon.dingle({"token", "remove", "harbour-office"}).out, "removed harbour-office\n");
  EXPECT_EQ(status(token, "GET", "/v1/status"), 401);
  EXPECT_EQ(daemon.dingle({"token", "remove", "harbour-office"}).status, 1);
}

TEST_F(NamedTokens, ADamagedFileLeavesTheProgramsOwn) {
  add("reader", "read");
  daemon.terminate();
  std::ofstream(daemon.dir + "/data/tokens.sqlite") << "this is no database, and never was one at all";
  daemon.start();
  EXPECT_NE(daemon.problem("tokens cannot be read"), "");
  EXPECT_EQ(daemon.dingle({"versions"}).status, 0);
}

}  // namespace
}  // namespace dingle
