// What is hidden stands nowhere: not in the data folder, in answers, or in the log.
#include <gtest/gtest.h>
#include <sqlite3.h>
#include <zstd.h>

#include <atomic>
#include <filesystem>

#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"
#include "tests/end_to_end/service.h"

namespace dingle {
namespace {

// Whether a text stands in some bytes, or in what is compressed in them.
bool holds(std::string_view bytes, std::string_view text) {
  if (bytes.find(text) != std::string_view::npos) return true;
  const std::string_view magic("\x28\xB5\x2F\xFD", 4);
  for (std::size_t at = bytes.find(magic); at != std::string_view::npos; at = bytes.find(magic, at + 1)) {
    std::string plain(16 << 20, '\0');
    ZSTD_DCtx* context = ZSTD_createDCtx();
    ZSTD_inBuffer in{bytes.data() + at, bytes.size() - at, 0};
    ZSTD_outBuffer out{plain.data(), plain.size(), 0};
    while (in.pos < in.size && out.pos < out.size) {
      const std::size_t before = in.pos + out.pos, left = ZSTD_decompressStream(context, &out, &in);
      if (ZSTD_isError(left) || left == 0 || in.pos + out.pos == before) break;
    }
    ZSTD_freeDCtx(context);
    if (std::string_view(plain).substr(0, out.pos).find(text) != std::string_view::npos) return true;
  }
  return false;
}

bool database_holds(const std::string& path, std::string_view text) {
  sqlite3* db = nullptr;
  bool found = sqlite3_open(path.c_str(), &db) != SQLITE_OK;
  std::vector<std::string> tables;
  sqlite3_stmt* s = nullptr;
  sqlite3_prepare_v2(db, "select name from sqlite_master where type = 'table'", -1, &s, nullptr);
  while (sqlite3_step(s) == SQLITE_ROW)
    tables.emplace_back(reinterpret_cast<const char*>(sqlite3_column_text(s, 0)));
  sqlite3_finalize(s);
  for (const std::string& table : tables) {
    sqlite3_prepare_v2(db, ("select * from \"" + table + "\"").c_str(), -1, &s, nullptr);
    while (sqlite3_step(s) == SQLITE_ROW)
      for (int c = 0; c < sqlite3_column_count(s); ++c) {
        const auto* blob = static_cast<const char*>(sqlite3_column_blob(s, c));
        found = found || (blob != nullptr &&
                          holds({blob, static_cast<std::size_t>(sqlite3_column_bytes(s, c))}, text));
      }
    sqlite3_finalize(s);
  }
  sqlite3_close(db);
  return found;
}

// The files below a folder in which the text stands.
std::vector<std::string> files_with(const std::string& folder, const std::string& text) {
  std::vector<std::string> all;
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder)) {
    if (!entry.is_regular_file()) continue;
    const std::string bytes = read_file(entry.path());
    if (holds(bytes, text) || (bytes.starts_with("SQLite format 3") && database_holds(entry.path(), text)))
      all.push_back(entry.path().filename());
  }
  return all;
}

constexpr const char* kHiding = R"(
sources:
  gate: { files: { paths: ['{dir}/logs/gate.log'] } }
pipelines:
  gate:
    from: [gate]
    steps:
      - drop: { where: "body like '%HEALTH%'" }
      - parse: { templates: ['{client.address:ip} {user:word} {ticket:int} {message}'] }
      - STEP
    to: [store, nobody]
destinations:
  store: { index: {} }
  nobody: { http: { url: 'URL' } }
)";

std::string hiding(const std::string& step, const std::string& url = "http://127.0.0.1:9/") {
  std::string text = kHiding;
  text.replace(text.find("URL"), 3, url);
  return text.replace(text.find("STEP"), 4, step);
}

void write_hidden(Daemon& daemon) {
  daemon.write("gate.log",
               "192.0.2.7 kestrelmann 17 opened for kestrelmann\n"
               "kestrelmann sent what no template knows: kestrelmann@skerry.example\n"
               "192.0.2.8 heronmann 18 HEALTH of kestrelmann\n"
               "192.0.2.9 heronmann x17 \"kestrelmann\" \\u006bestrelmann\n");
}

TEST(Hiding, AMaskedNameStandsNowhere) {
  Service refuses([](const HttpRequest& request, HttpAnswer& answer) {
    answer.status = 400;
    answer.body = "cannot take " + std::string(request.body);  // an answer that says what it was sent
  });
  {  // the search finds what is there
    Daemon open(hiding("set: { fields: { a: 1 } }", refuses.url()));
    write_hidden(open);
    open.start();
    open.settled();
    open.terminate();
    EXPECT_FALSE(files_with(open.dir + "/data", "kestrelmann").empty());
  }
  for (const char* how : {"mask", "hold"}) {
    std::string server = "spool: { compression: zstd }";
    if (how == std::string("hold")) server += ", held: { key: { env: DINGLE_HELD_KEY } }";
    Daemon daemon(hiding("mask: { fields: [user], find: [email] }", refuses.url()), server);
    daemon.environment = {{"DINGLE_HELD_KEY", "the ferry's key"}};
    write_hidden(daemon);
    daemon.start();
    EXPECT_TRUE(eventually([&] { return find(daemon.status()["destinations"], "nobody")["letters"] == 3; }))
        << daemon.status()["destinations"];
    const auto events = daemon.events();
    ASSERT_EQ(events.size(), 3u);
    EXPECT_EQ(events[0]["body"], "192.0.2.7 *** 17 opened for ***");
    EXPECT_EQ(events[0]["user"], "***");
    EXPECT_EQ(events[0]["ticket"], 17);
    const Ran unmatched = daemon.dingle({"unmatched", "gate"}),
              letters = daemon.dingle({"letters", "--destination", "nobody", "--output", "ndjson"});
    EXPECT_NE(letters.out.find("cannot take"), std::string::npos) << letters.out << letters.err;
    EXPECT_NE(unmatched.out.find("expected"), std::string::npos) << unmatched.out;
    EXPECT_EQ(unmatched.out.find("found"), std::string::npos) << "of a shape";
    EXPECT_EQ((unmatched.out + letters.out + letters.err).find("kestrelmann"), std::string::npos)
        << unmatched.out << letters.out;
    const Ran held = daemon.dingle({"held", "--output", "ndjson"});
    if (how == std::string("hold")) {
      EXPECT_NE(held.out.find("kestrelmann sent what no template knows"), std::string::npos)
          << held.out << held.err;
      EXPECT_EQ(daemon.dingle({"held"}).status, 0);
      const HttpReply form = Caller("http://" + daemon.address(), daemon.token())
                                 .post("/v1/held", "limit=1", "application/x-www-form-urlencoded");
      EXPECT_EQ(Json::parse(form.body)["lines"].size(), 1u) << form.body;
    } else {
      EXPECT_NE(held.err.find("there is no key"), std::string::npos) << held.err;
    }
    daemon.terminate();
    EXPECT_EQ(files_with(daemon.dir + "/data", "kestrelmann"), std::vector<std::string>{}) << how;
    EXPECT_EQ(daemon.log().find("kestrelmann"), std::string::npos);
  }
}

// Two pipelines take a line, and one hides: what is kept of the other one's beside the store says nothing of it.
TEST(Hiding, LettersOfAnotherPipelineSayNothing) {
  std::atomic<bool> refusing{true};
  Received received;
  Service fussy([&](const HttpRequest& request, HttpAnswer& answer) {
    if (!refusing) return received.add(request);
    answer.status = 400;
    answer.body = "cannot take " + std::string(request.body);
  });
  for (const bool keyed : {false, true}) {
    refusing = true;
    std::string text = hiding("mask: { fields: [user] }");
    text.replace(text.find("destinations:"), 0,
                 "  plain: { from: [gate], unless: \"body like '%heron%'\", to: [fussy] }\n");
    text += "  fussy: { http: { url: '" + fussy.url() + "' } }\n";
    Daemon daemon(text, std::string("spool: { compression: zstd }") +
                            (keyed ? ", held: { key: { env: DINGLE_HELD_KEY } }" : ""));
    daemon.environment = {{"DINGLE_HELD_KEY", "the ferry's key"}};
    daemon.write("gate.log", "192.0.2.7 kestrelmann 17 opened\n192.0.2.8 puffinmann 18 HEALTH\n");
    daemon.start();
    ASSERT_TRUE(eventually([&] { return find(daemon.status()["destinations"], "fussy")["letters"] == 2; }));
    const Ran token = daemon.dingle({"token", "add", "reader", "--may", "read"});
    Caller reader("http://" + daemon.address(), token.out.substr(0, token.out.find('\n')));
    const std::string seen = reader.get("/v1/letters?destination=fussy").body;
    EXPECT_EQ(seen.find("kestrelmann"), std::string::npos) << seen;
    EXPECT_NE(seen.find("cannot take"), std::string::npos) << seen;
    const Ran all = daemon.dingle({"letters", "--destination", "fussy", "--output", "ndjson"});
    EXPECT_EQ(all.out.find("kestrelmann") != std::string::npos, keyed) << all.out;
    for (const auto& problem : daemon.status()["problems"])
      EXPECT_EQ(problem.dump().find("kestrelmann"), std::string::npos) << problem;
    for (const std::string& file : files_with(daemon.dir + "/data", "kestrelmann"))
      EXPECT_FALSE(file.starts_with("letters")) << file;  // the spool's own are what its destination gets
    EXPECT_EQ(daemon.log().find("kestrelmann"), std::string::npos);
    refusing = false;
    ASSERT_EQ(daemon.dingle({"letters", "resend", "--all"}).status, 0);
    ASSERT_TRUE(eventually([&] { return find(daemon.status()["destinations"], "fussy")["letters"] == 0; }));
    std::string all_received;
    for (const HttpRequest& request : received.requests) all_received += request.body;
    EXPECT_EQ(all_received.find("kestrelmann") != std::string::npos, keyed) << all_received;
  }
}

TEST(Hiding, WithoutItsKeyNothingStarts) {
  Daemon daemon(hiding("digest: { fields: [user], key: { env: DINGLE_NO_SUCH_KEY } }"));
  daemon.start_whatever_comes();
  EXPECT_NE(daemon.log().find("DINGLE_NO_SUCH_KEY"), std::string::npos) << daemon.log();
}

TEST(Hiding, SwitchedOffItIsAProblem) {
  Daemon daemon(hiding("mask: { fields: [user], off: true }"));
  daemon.write("gate.log", "");
  daemon.start();
  EXPECT_NE(daemon.problem("switched off").find("what it would hide is stored"), std::string::npos);
  daemon.configure(hiding("mask: { fields: [user] }"));
  EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
  EXPECT_TRUE(eventually([&] { return daemon.status()["problems"].empty(); })) << daemon.status()["problems"];
}

}  // namespace
}  // namespace dingle
