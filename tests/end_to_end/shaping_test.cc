// What pipelines do to events, through the real program: sampling, counting, looking up, and expressions beside a database.
#include <gtest/gtest.h>
#include <libpq-fe.h>

#include <atomic>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <map>

#include "core/condition/expression.h"
#include "tests/core/expression_grammar.h"
#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"
#include "tests/end_to_end/servers.h"
#include "tests/end_to_end/service.h"

namespace dingle {
namespace {

// ---- sampling and counting ----

TEST(Sampling, CountsMeetTheTruth) {
  Daemon daemon(R"(
sources: { gate: { files: { paths: ['{dir}/logs/gate.log'] } } }
pipelines:
  gate:
    from: [gate]
    steps:
      - parse: { templates: ['{status:int} {trace_id}'] }
      - sample: { by: trace_id, shares: { "status = 500": 100%, "status = 404": 0% }, share: 30% }
    to: [store]
destinations: { store: { index: {} } }
)");
  std::string lines;
  for (int n = 0; n < 20'000; ++n)
    lines += (n % 10 == 0 ? "500 t" : n % 10 == 1 ? "404 t" : "200 t") + std::to_string(n) + "\n";
  daemon.write("gate.log", lines);
  daemon.start();
  daemon.settled();
  std::map<std::string, double> counts, stored;
  for (const bool as_stored : {false, true}) {
    std::vector<std::string> arguments{"timeline", "--by", "status", "--bucket", "1d", "--output", "json"};
    if (as_stored) arguments.push_back("--as-stored");
    const Ran ran = daemon.dingle(arguments);
    for (const Json& row : Json::parse(ran.out))
      (as_stored ? stored : counts)[row["status"].dump()] += row["count"].get<double>();
  }
  EXPECT_EQ(counts["500"], 2000);
  EXPECT_EQ(counts.count("404"), 0u);
  EXPECT_NEAR(stored["200"], 16'000 * 0.3, 4 * std::sqrt(16'000 * 0.3 * 0.7));
  EXPECT_NEAR(counts["200"], 16'000, 4 * 16'000 * std::sqrt(0.7 / (16'000 * 0.3)));
  const Ran values = daemon.dingle({"values", "status"});
  EXPECT_NE(values.out.find("counted with what events stand for"), std::string::npos) << values.out;
}

TEST(Weighing, SaysWhereTheBytesAre) {
  Daemon daemon(R"(
sources: { gate: { files: { paths: ['{dir}/logs/gate.log'] } } }
pipelines: { gate: { from: [gate], steps: [json, time: { field: at }], to: [store] } }
destinations: { store: { index: {} } }
)");
  std::string lines;
  for (int n = 0; n < 600; ++n)
    lines += R"({"at":"2026-11-23T10:)" + std::string(n / 60 < 10 ? "0" : "") + std::to_string(n / 60) + ":" +
             (n % 60 < 10 ? "0" : "") + std::to_string(n % 60) +
             R"(Z","ship":"Kittiwake","vessel":"Kittiwake","agent":"turnstile of the north quay","n":)" +
             std::to_string(n) + "}\n";
  daemon.write("gate.log", lines);
  daemon.start();
  daemon.settled();
  daemon.dingle({"values", "ship"});
  const Ran people = daemon.dingle({"weigh"});
  EXPECT_EQ(people.status, 0) << people.err;
  EXPECT_NE(people.out.find("- omit: { fields: [agent, vessel] }"), std::string::npos) << people.out;
  EXPECT_NE(people.out.find("same as ship"), std::string::npos) << people.out;
  Caller http("http://" + daemon.address(), daemon.token());
  const Json asked = Json::parse(http.get("/v1/weigh?limit=500&shapes=1").body);
  EXPECT_EQ(asked["events"], 500);
  EXPECT_EQ(asked["stored_events"], 600);
  EXPECT_EQ(asked["shapes"].size(), 1u);
  // Without the write-ahead file, which has the size of many events.
  const Json index = Json::parse(http.get("/v1/indexes").body)["indexes"].at(0);
  EXPECT_LT(asked["stored_bytes"].get<double>(), index["bytes"].get<double>()) << index;
  EXPECT_GT(asked["stored_bytes"].get<double>(), 600 * 20);
  // One a second, and what an event takes on disk.
  EXPECT_NEAR(asked["bytes_a_day"].get<double>(), 86400 * asked["stored_bytes"].get<double>() / 600,
              asked["bytes_a_day"].get<double>() * 0.02);
  for (const Json& f : asked["fields"]) EXPECT_TRUE(f["field"] != "ship" || !f["last_asked"].is_null());
  const Json form =
      Json::parse(http.post("/v1/weigh", "where=n+%3C+10", "application/x-www-form-urlencoded").body);
  EXPECT_EQ(form["events"], 10);
  // The same from the other side: which fields there are.
  std::map<std::string, Json> fields;
  for (const Json& f : Json::parse(daemon.dingle({"fields", "-o", "json"}).out)) fields[f["field"]] = f;
  EXPECT_EQ(fields["ship"]["events"], 600);
  EXPECT_EQ(fields["ship"]["types"], (Json{{"text", 600}}));
  EXPECT_EQ(fields["ship"]["examples"], (Json{"Kittiwake"}));
  EXPECT_FALSE(fields["ship"]["last_asked"].is_null());
  EXPECT_TRUE(fields["vessel"]["last_asked"].is_null());
  EXPECT_FALSE(fields["log.file.path"]["own"].get<bool>());
  EXPECT_EQ(fields["log.file.path"]["made_by"], (Json{"source gate"}));
  EXPECT_EQ(Json::parse(
                http.post("/v1/fields", "to=2026-11-24", "application/x-www-form-urlencoded").body)["events"],
            600);
  EXPECT_EQ(http.get("/v1/fields?where=n+%3C+10").status, 400);
  const Ran table = daemon.dingle({"fields", "--like", "ship"});
  EXPECT_NE(table.out.find("1 field in 600 events"), std::string::npos) << table.out;
  EXPECT_NE(daemon.dingle({"fields", "--destination", "stroe"}).err.find("did you mean `store`?"),
            std::string::npos);
}

double sample_of(const std::string& metrics, const std::string& series) {
  const std::size_t at = metrics.find("\n" + series + " ");
  return at == std::string::npos ? -1 : std::stod(metrics.substr(at + series.size() + 2));
}

TEST(Counting, ATallyEqualsTheEventsThroughKills) {
  Daemon daemon(R"(
sources: { gate: { files: { paths: ['{dir}/logs/gate.log'] } } }
pipelines:
  gate:
    from: [gate]
    steps:
      - parse: { templates: ['{ship:word} {load:int}'] }
      - tally: { metric: scans, labels: { ship: ship } }
      - tally: { metric: load, value: load, kind: histogram, buckets: ['5'], name: loads }
    to: [store]
destinations: { store: { index: {} } }
)");
  int lines = 0;
  for (int round = 0; round < 10; ++round) {
    daemon.start();
    std::string text;
    for (int n = 0; n < 3000; ++n, ++lines)
      text += (n % 3 == 0 ? "Tern " : "Auk ") + std::to_string(n % 10) + "\n";
    daemon.write("gate.log", text);
    if (round % 3 == 0) eventually([&] { return !daemon.events("", 1).empty(); });
    daemon.kill();
  }
  daemon.start();
  daemon.settled();
  const std::string text = Caller("http://" + daemon.address(), daemon.token()).get("/metrics").body;
  EXPECT_EQ(sample_of(text, "scans_total{pipeline=\"gate\",ship=\"Tern\"}"), lines / 3) << text;
  EXPECT_EQ(sample_of(text, "scans_total{pipeline=\"gate\",ship=\"Auk\"}"), lines - lines / 3);
  EXPECT_EQ(sample_of(text, "load_bucket{pipeline=\"gate\",le=\"5.0\"}"), lines * 6 / 10);
  EXPECT_EQ(sample_of(text, "load_count{pipeline=\"gate\"}"), lines);
}

TEST(Alerts, SayTooManyAndTooFewOnceEach) {
  Daemon daemon(R"(
sources: { gate: { files: { paths: ['{dir}/logs/gate.log'] } } }
pipelines:
  gate:
    from: [gate]
    steps:
      - parse: { templates: ['{ship:word} {outcome:word}'] }
      - alert: { called: refused, where: "outcome = 'refused'", by: [ship], more_than: 5, within: 1m, name: many }
      - alert: { called: silent, fewer_than: 1, within: 2s, name: few }
    to: [store, { alerts: "\"dingle.alert\" is not null" }]
destinations: { store: { index: {} }, alerts: { index: {} } }
)");
  std::string lines;
  for (int n = 0; n < 20; ++n) lines += "Tern refused\nAuk boarded\n";
  daemon.write("gate.log", lines);
  daemon.start();
  const auto alerts = [&] {
    return Json::parse(daemon.dingle({"search", "--destination", "alerts", "--output", "json"}).out);
  };
  EXPECT_TRUE(eventually([&] { return alerts().size() == 2; })) << alerts();
  std::map<std::string, Json> by_name;
  for (const Json& e : alerts()) by_name[e["dingle.alert"]] = e;
  EXPECT_EQ(by_name["refused"]["body"], "refused: more than 5 within 1m for ship=Tern");
  EXPECT_EQ(by_name["refused"]["ship"], "Tern");
  EXPECT_EQ(by_name["refused"]["severity_number"], 13);
  EXPECT_EQ(by_name["silent"]["body"], "silent: fewer than 1 within 2s, 0 came");
  daemon.kill();
  daemon.start();
  daemon.write("gate.log", lines);
  daemon.settled();
  EXPECT_EQ(alerts().size(), 2u);  // quiet, also after a restart
}

TEST(Tables, AnEditIsLive) {
  Daemon daemon(R"(
sources: { gate: { files: { paths: ['{dir}/logs/gate.log'] } } }
pipelines:
  gate:
    from: [gate]
    where: "body not in table noise"
    steps: [ parse: { templates: ['{mmsi:int}'] }, lookup: { table: ships, by: mmsi, take: { ship.name: name }, otherwise: { ship.name: unknown } } ]
    to: [store]
destinations: { store: { index: {} } }
tables: { ships: { file: '{dir}/ships.csv' }, noise: { file: '{dir}/noise.csv' } }
)");
  const auto put = [&](const std::string& name, const std::string& text) {
    std::ofstream(daemon.dir + "/" + name + ".new") << text;
    std::filesystem::rename(daemon.dir + "/" + name + ".new", daemon.dir + "/" + name);
  };
  put("ships.csv", "mmsi,name\n219,Tern\n");
  put("noise.csv", "line\n7\n");
  daemon.start();
  int n = 0;
  const auto name_of = [&](const std::string& line) {
    daemon.write("gate.log", line + "\n");
    ++n;
    eventually([&] { return daemon.events().size() == static_cast<std::size_t>(n); });
    return daemon.events().back().value("ship.name", "");
  };
  EXPECT_EQ(name_of("219"), "Tern");
  EXPECT_EQ(name_of("220"), "unknown");
  daemon.write("gate.log", "7\n");  // noise
  put("ships.csv", "mmsi,name\n219,Tern II\n220,Auk\n");
  EXPECT_TRUE(eventually([&] { return name_of("220") == "Auk"; }, std::chrono::seconds(20)));
  put("ships.csv", "mmsi,name\n219");
  EXPECT_NE(daemon.problem("the table as it was stays").find("line 2: 1 cells, and 2 columns"),
            std::string::npos);
  EXPECT_EQ(name_of("219"), "Tern II");
  const Ran search = daemon.dingle({"search", "cast(mmsi as text) in table ships and mmsi in table shps"});
  EXPECT_NE(search.err.find("did you mean `ships`"), std::string::npos) << search.err;
}

TEST(Tables, WhatEventsNotedIsFoundByOthersAndAfterAKill) {
  std::string configuration = R"(
sources:
  boarding: { files: { paths: ['{dir}/logs/boarding.log'] } }
  gate: { files: { paths: ['{dir}/logs/gate.log'] } }
pipelines:
  boarding:
    from: [boarding]
    steps: [ parse: { templates: ['{booking:word} boarded {ship:word}', '{booking:word} left'] }, note: { table: boarded, by: booking, forget: 'ship is null' } ]
    to: [nowhere]
  gate:
    from: [gate]
    steps: [ parse: { templates: ['{booking:word} {client.address:ip}'] }, lookup: { table: boarded, by: booking, otherwise: { ship: none } }, locate: { table: places, by: client.address } ]
    to: [store]
destinations: { store: { index: {} }, nowhere: { nowhere: {} } }
tables: { boarded: { noted: [ship] }, places: { file: ')" DINGLE_SOURCE
                              R"(/demo/places.mmdb', format: mmdb } }
)";
  Daemon daemon(configuration);
  daemon.start();
  int n = 0;
  const auto scan = [&](const std::string& booking) {
    daemon.write("gate.log", booking + " 192.0.2.20\n");
    ++n;
    eventually([&] { return daemon.events().size() == static_cast<std::size_t>(n); });
    return daemon.events().back().value("ship", "");
  };
  EXPECT_EQ(scan("bk-1"), "none");
  EXPECT_EQ(daemon.events().back().value("geo.locality.name", ""), "Ternholm");
  daemon.write("boarding.log", "bk-1 boarded Tern\nbk-2 boarded Auk\nbk-3 boarded Skua\nbk-2 left\n");
  EXPECT_TRUE(eventually([&] { return scan("bk-1") == "Tern"; }));
  EXPECT_EQ(scan("bk-2"), "none");
  daemon.settled();
  daemon.kill();
  daemon.start();
  EXPECT_EQ(scan("bk-3"), "Skua");
  configuration.replace(configuration.find("ship: none"), 10, "ship: nobody");
  daemon.configure(configuration);
  daemon.hang_up();
  EXPECT_TRUE(eventually([&] { return scan("bk-2") == "nobody"; }));
  EXPECT_EQ(scan("bk-3"), "Skua");
  const Ran found = daemon.dingle({"search", "booking not in table boarded"});
  EXPECT_NE(found.out.find("bk-2"), std::string::npos) << found.out << found.err;
  EXPECT_EQ(found.out.find("bk-3"), std::string::npos) << found.out;
}

// ---- trouble ----

TEST(Retry, IsTriedAtOnce) {
  std::atomic<bool> well{false};
  Service service([&](const HttpRequest&, HttpAnswer& answer) { answer.status = well ? 200 : 503; });
  Daemon daemon(
      "sources: { gate: { files: { paths: ['{dir}/logs/gate.log'] } } }\npipelines: { p: { from: [gate], to: "
      "[d] } }\n"
      "destinations: { d: { http: { url: '" +
      service.url() + "' }, retry: { first: 1h, longest: 1h } } }\n");
  daemon.write("gate.log", "Tern at 4\n");
  daemon.start();
  EXPECT_NE(daemon.problem("503").find("503"), std::string::npos);
  const Ran refused = daemon.dingle({"retry", "d"});
  EXPECT_EQ(refused.status, 1);
  EXPECT_NE(refused.out.find("d does not accept yet; 1 event waits"), std::string::npos)
      << refused.out << refused.err;
  const Ran status = daemon.dingle({"status"});
  EXPECT_TRUE(
      status.out.starts_with("1 problem, 1 destination does not accept; every line is accounted for\n"))
      << status.out;
  well = true;
  const Ran accepted = daemon.dingle({"retry", "d"});
  EXPECT_EQ(accepted.status, 0);
  EXPECT_NE(accepted.out.find("d accepts; 0 events wait"), std::string::npos) << accepted.out << accepted.err;
  EXPECT_TRUE(daemon.dingle({"status"}).out.starts_with("all well: every line"))
      << daemon.dingle({"status"}).out;
  EXPECT_NE(daemon.dingle({"retry", "e"}).err.find("did you mean `d`"), std::string::npos);
}

// ---- expressions beside PostgreSQL ----

TEST(ExpressionReference, AgreesWithPostgres) {
  if (!PostgresServer::installed()) GTEST_SKIP() << "PostgreSQL is not installed";
  PostgresServer server;
  PGconn* db = PQconnectdb(server.connect().c_str());
  ASSERT_EQ(PQstatus(db), CONNECTION_OK) << PQerrorMessage(db);
  PQclear(PQexec(db,
                 "create temp table f(i bigint, j bigint, d double precision, s text collate \"C\", t text "
                 "collate \"C\", n bigint, m text collate \"C\")"));
  PQclear(PQexec(db, "set time zone 'UTC'"));
  class Row final : public FieldReader {
   public:
    explicit Row(const ExpressionRow& r)
        : values{{"i", Value::integer(r.i)},
                 {"j", Value::integer(r.j)},
                 {"d", Value::decimal(r.d)},
                 {"s", Value::text(r.s)},
                 {"t", Value::text(r.t)}} {}
    Value get(FieldId field) const override {
      const auto it = values.find(field_name(field));
      return it == values.end() ? Value() : it->second;
    }
    bool any_text(const std::function<bool(std::string_view)>&) const override { return false; }
    std::map<std::string, Value, std::less<>> values;
  };
  const auto quoted = [](const std::string& text) {
    std::string out = "'";
    for (const char c : text) out += c == '\'' ? std::string("''") : std::string(1, c);
    return out + "'";
  };
  ExpressionGrammar grammar(23112026, ExpressionGrammar::Dialect::postgres);
  int compared = 0, absent = 0;
  for (int round = 0; round < 500; ++round) {
    const ExpressionRow r = grammar.row();
    PQclear(
        PQexec(db, ("truncate f; insert into f values (" + std::to_string(r.i) + "," + std::to_string(r.j) +
                    "," + std::to_string(r.d) + "," + quoted(r.s) + "," + quoted(r.t) + ")")
                       .c_str()));
    std::vector<std::string> texts;
    std::string select = "select ";
    for (int k = 0; k < 20; ++k) {
      texts.push_back(grammar.any());
      select += (k ? ", (" : "(") + texts.back() + ")::text";
    }
    PGresult* result = PQexec(db, (select + " from f").c_str());
    ASSERT_EQ(PQresultStatus(result), PGRES_TUPLES_OK) << PQerrorMessage(db);
    const Row row(r);
    for (int k = 0; k < 20; ++k) {
      const auto e = Expression::parse(texts[static_cast<std::size_t>(k)]);
      ASSERT_TRUE(e) << texts[static_cast<std::size_t>(k)] << ": " << e.problem().message;
      Arena arena;
      std::string_view fault;
      const Value v = e->evaluate(row, arena, fault);
      const std::string theirs = PQgetvalue(result, 0, k);
      const std::string said = e->text() + " i=" + std::to_string(r.i) + " j=" + std::to_string(r.j) +
                               " d=" + std::to_string(r.d) + " s='" + r.s + "' t='" + r.t + "'";
      EXPECT_EQ(fault, "") << said;
      if (PQgetisnull(result, 0, k)) {
        EXPECT_TRUE(v.absent()) << said << ": " << v.to_string();
        ++absent;
        continue;
      }
      ++compared;
      if (v.is_number())
        EXPECT_NEAR(v.as_number(), std::stod(theirs), std::abs(v.as_number()) * 1e-9) << said;
      else
        EXPECT_EQ(v.to_string(), theirs) << said;
    }
    PQclear(result);
  }
  PQfinish(db);
  EXPECT_GT(compared, 3000);
  EXPECT_GT(absent, 1000);
}

}  // namespace
}  // namespace dingle
