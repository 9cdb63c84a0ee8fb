// What services answer is data: whatever it is, a destination says what became of its events, and never throws.
#include <gtest/gtest.h>

#include <fstream>
#include <random>

#include "agent/configuration.h"
#include "agent/destinations/destination.h"
#include "tests/end_to_end/service.h"

namespace dingle {
namespace {

using Form = Outcome::Form;

// Of every kind, nested, and in the places where an answer of a dingled or of a bulk service has something to say.
std::string some_json(std::mt19937_64& random, const std::vector<std::string>& numbers, int depth = 0) {
  static const char* const kNames[] = {"held",  "detail", "epoch", "number", "events",
                                       "items", "status", "error", "x"};
  switch (random() % (depth < 4 ? 8 : 5)) {
    case 0: return "null";
    case 1: return random() % 2 ? "true" : "false";
    case 2:
    case 3: return numbers[random() % numbers.size()];
    case 4: return random() % 2 ? "\"a text\"" : "\"\\ud800\"";
    case 5:
    case 6: {
      std::string all = "{";
      for (std::size_t i = random() % 4; i-- > 0;)
        all += (all.size() > 1 ? ",\"" : "\"") + std::string(kNames[random() % 9]) +
               "\":" + some_json(random, numbers, depth + 1);
      return all + "}";
    }
    default: {
      std::string all = "[";
      for (std::size_t i = random() % 4; i-- > 0;)
        all += (all.size() > 1 ? "," : "") + some_json(random, numbers, depth + 1);
      return all + "]";
    }
  }
}

class ForeignAnswers : public testing::Test {
 protected:
  std::string answer;
  int status = 200;
  Service service{[this](const HttpRequest&, HttpAnswer& a) {
    a.status = status;
    a.content_type = "application/json";
    a.body = answer;
  }};
  std::shared_ptr<const Configuration> configuration;
  std::unique_ptr<Destination> destination;

  void make(const std::string& options) {
    const std::string text =
        "version: 1\nserver: { data: /nowhere }\nsources: { s: { files: { paths: [/nowhere/x] } } }\n"
        "pipelines: { p: { from: [s], to: [d] } }\ndestinations: { d: { " +
        options + " } }\n";
    Findings findings(text);
    configuration = read_configuration(text, findings);
    ASSERT_TRUE(configuration) << (findings.all().empty() ? "" : findings.all()[0].message);
    const DestinationSettings& d = configuration->destinations[0];
    destination = d.kind->make({d, 1, {1, 1, 1}, "/nowhere"});
  }
  Delivery deliver() {
    DeliveryEvent event;
    event.number = {1, 7};
    event.event.body = "a line";
    event.event.name = "gate";
    return destination->deliver({&event, 1});
  }
  // Each answer of the file, as a member where it counts, and random ones.
  static std::vector<std::string> answers() {
    std::ifstream in(DINGLE_SOURCE "/tests/core/json_numbers.txt");
    std::vector<std::string> numbers, all;
    for (std::string line; std::getline(in, line);) numbers.push_back(line.substr(0, line.rfind(' ')));
    std::mt19937_64 random(26);
    for (std::size_t i = 0; i < numbers.size(); i += 4) {
      all.push_back(numbers[i]);
      all.push_back("{\"held\":{\"epoch\":" + numbers[i] + ",\"of\":" + numbers[i + 1] +
                    ",\"events\":" + numbers[i + 2] + "}}");
      all.push_back("{\"detail\":" + numbers[i] + ",\"items\":[{\"status\":" + numbers[i + 3] + "}]}");
    }
    for (int i = 0; i < 1000; ++i) all.push_back(some_json(random, numbers));
    return all;
  }
};

TEST_F(ForeignAnswers, AreNeverTakenForThoseOfADingled) {
  make("index: { at: '" + service.url("") + "' }");
  for (const std::string& a : answers()) {
    for (status = 200; status <= 500; status += 300) {
      answer = a;
      Delivery delivery;
      ASSERT_NO_THROW(delivery = deliver()) << a;
      EXPECT_NE(delivery.of(0).form, Form::accepted) << a;
    }
  }
}

TEST_F(ForeignAnswers, OfWhatStandsBetweenLoseNothing) {
  make("index: { at: '" + service.url("") + "' }");
  answer = R"({"stored":0,"known":0,"held":{"epoch":0,"number":0,"events":0}})";
  EXPECT_TRUE(deliver().at_once) << "connected";
  for (const char* other :
       {"<html>welcome</html>", "{}", "{\"held\":[]}", "{\"held\":{\"epoch\":1,\"number\":6}}"}) {
    answer = other;
    EXPECT_EQ(deliver().of(0).form, Form::retry) << other;
  }
  answer = R"({"stored":1,"known":0,"held":{"epoch":1,"number":7,"events":1}})";
  EXPECT_EQ(deliver().of(0).form, Form::accepted);
}

TEST_F(ForeignAnswers, OfAnUnreadableEventSetItAside) {
  make("index: { at: '" + service.url("") + "' }");
  answer = R"({"held":{"epoch":0,"number":0,"events":0}})";
  deliver();
  status = 422;
  answer = R"({"detail":"line 1 is not an event as agents send them"})";
  const Delivery refused = deliver();
  EXPECT_EQ(refused.of(0).form, Form::refused);
  EXPECT_TRUE(refused.separable) << "of many, the one to blame is found";
}

TEST_F(ForeignAnswers, ToBulkRequestsSayNothingThatTheyDoNot) {
  make("http: { url: '" + service.url() +
       "', answer: { each: /items, code: /status, why: /error, message: /detail } }");
  for (const std::string& a : answers()) {
    for (status = 200; status <= 500; status += 300) {
      answer = a;
      ASSERT_NO_THROW(deliver()) << a;
    }
  }
  for (const char* other :
       {"null", "[]", "{\"items\":[]}", "{\"items\":[{}]}", "{\"items\":[{\"status\":\"200\"}]}",
        "{\"items\":[{\"status\":2e400}]}", "{\"items\":[{\"status\":200.5}]}"}) {
    status = 200;
    answer = other;
    EXPECT_EQ(deliver().of(0).form, Form::retry) << other;
  }
}

}  // namespace
}  // namespace dingle
