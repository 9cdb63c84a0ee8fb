// Reading what is stored like a book: around one event, and by shapes.
#include <gtest/gtest.h>

#include <filesystem>

#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"
#include "tests/end_to_end/sender.h"

namespace dingle {
namespace {

constexpr const char* kConfiguration = R"(
sources:
  gate: { files: { paths: ['{dir}/logs/gate.log*'], join: { indented: true } } }
  radio: { syslog: { udp: '127.0.0.1:0' } }
pipelines:
  all: { from: [gate, radio], to: [store] }
destinations:
  store: { index: {} }
)";

class Reading : public testing::Test {
 protected:
  Daemon daemon{kConfiguration};
  void stored(std::uint64_t events) {
    ASSERT_TRUE(eventually([&] { return find(daemon.status()["destinations"], "store")["sent"] >= events; }))
        << daemon.status()["destinations"];
  }
  std::string id_of(const std::string& body) {
    const Ran ran = daemon.dingle({"search", "body = '" + body + "'", "--ids", "-o", "ndjson"});
    const Json event = Json::parse(ran.out, nullptr, false);
    return event.is_object() ? event.value("dingle.id", "") : "none: " + ran.out + ran.err;
  }
  // Bodies in their order, the first line of each.
  std::string around(const std::string& body, const std::string& lines) {
    const Ran ran = daemon.dingle({"search", "--around", id_of(body), "--lines", lines, "-o", "json"});
    std::string all;
    const Json events = Json::parse(ran.out, nullptr, false);
    if (!events.is_array()) return ran.out + ran.err;
    for (const Json& e : events) {
      const auto text = e["body"].get<std::string>();
      all += (all.empty() ? "" : ", ") + text.substr(0, text.find('\n'));
    }
    return all;
  }
};

TEST_F(Reading, AroundAnEventOverRotationAndWithJoins) {
  daemon.write("gate.log", "one\ntwo\n  and more\nthree\n");
  daemon.start();
  stored(2);  // the last waits for what may follow it
  daemon.write("gate.log", "four\n");
  std::filesystem::rename(daemon.path("gate.log"), daemon.path("gate.log.1"));
  daemon.write("gate.log", "five\n  of many\nsix\n");
  stored(6);
  EXPECT_EQ(around("four", "2"), "two, three, four, five, six");
  EXPECT_EQ(around("one", "50"), "one, two, three, four, five, six");
  EXPECT_EQ(around("two\n  and more", "1"), "one, two, three");
  const Ran table = daemon.dingle({"search", "--around", id_of("four"), "--lines", "1"});
  EXPECT_NE(table.out.find("> "), std::string::npos);
  EXPECT_NE(table.out.find("1 line before it and 1 behind it, in "), std::string::npos) << table.out;
  EXPECT_EQ(daemon.dingle({"search", "body = 'six'", "--around", id_of("four")}).out.find("three"),
            std::string::npos);
  EXPECT_NE(daemon.dingle({"search", "--around", "x"}).err.find("is no event's id"), std::string::npos);
  EXPECT_NE(
      daemon.dingle({"search", "--around", std::string(32, '0')}).err.find("no stored event has that id"),
      std::string::npos);
  Caller http("http://" + daemon.address(), daemon.token());
  const Json form = Json::parse(http.post("/v1/events/around", "id=" + id_of("two\n  and more") + "&lines=1",
                                          "application/x-www-form-urlencoded")
                                    .body);
  EXPECT_EQ(form["at"], 1);
  EXPECT_EQ(form["events"].size(), 3u);
}

TEST_F(Reading, AroundADatagram) {
  daemon.start();
  const std::string port = port_of(daemon, "udp");
  Sender one(port, SOCK_DGRAM), other(port, SOCK_DGRAM);
  for (int i = 0; i < 5; ++i) {
    one.send("<13>tern " + std::to_string(i));
    other.send("<13>gull " + std::to_string(i));
    stored(static_cast<std::uint64_t>(2 * i + 2));  // datagrams may overtake each other
  }
  const std::string seen = around("<13>tern 2", "1");
  EXPECT_NE(seen.find("<13>tern 2"), std::string::npos) << seen;
  EXPECT_EQ(std::count(seen.begin(), seen.end(), ','), 2) << seen;
}

TEST_F(Reading, ShapesNowAndBefore) {
  std::string lines;
  for (int i = 0; i < 20; ++i) lines += "berth " + std::to_string(i) + " is free\n";
  daemon.write("gate.log", lines + "Tern: fog at berth 4\n");
  daemon.start();
  stored(21);
  const Ran all = daemon.dingle({"shapes", "-o", "json"});
  const Json shapes = Json::parse(all.out, nullptr, false);
  ASSERT_EQ(shapes.size(), 2u) << all.out << all.err;
  EXPECT_EQ(shapes[0]["shape"], "berth {int} is free");
  EXPECT_EQ(shapes[0]["events"], 20);
  const Ran against = daemon.dingle({"shapes", "--from", "1h", "--against", "1d"});
  EXPECT_NE(against.out.find("Tern: fog at berth {int}"), std::string::npos) << against.out;
  EXPECT_NE(against.out.find("new"), std::string::npos);
  EXPECT_NE(daemon.dingle({"shapes", "--against", "xx"}).err.find("neither a length nor a time"),
            std::string::npos);
  EXPECT_NE(
      daemon.dingle({"shapes", "--of", "mesage"}).err.find("no event in that time has a field `mesage`"),
      std::string::npos);
  Caller http("http://" + daemon.address(), daemon.token());
  const HttpReply form =
      http.post("/v1/shapes", "where=body+like+'Tern%25'&against=1d", "application/x-www-form-urlencoded");
  const Json answer = Json::parse(form.body, nullptr, false);
  ASSERT_EQ(answer["shapes"].size(), 1u) << form.body;
  EXPECT_EQ(answer["shapes"][0]["state"], "new");
}

}  // namespace
}  // namespace dingle
