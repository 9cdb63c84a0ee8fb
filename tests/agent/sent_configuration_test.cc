// What is sent opens nothing: neither tables, nor secrets, nor keys.
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>
#include <fstream>

#include "agent/configuration.h"
#include "agent/rehearsal/rehearsal.h"
#include "agent/secret.h"
#include "core/steps/hiding.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

class SentConfiguration : public testing::Test {
 protected:
  const std::string folder = testing::TempDir() + "sent-" + std::to_string(::getpid());
  void SetUp() override {
    std::filesystem::create_directories(folder);
    std::ofstream(folder + "/ships.csv") << "code,name\nTE,Tern\n";
    std::ofstream(folder + "/private.csv") << "code,name\nroot,the owner's token\n";
    ::setenv("DINGLE_TEST_SENT", "the ferry's key", 1);
  }
  void TearDown() override { std::filesystem::remove_all(folder); }

  std::string text(const std::string& table, const std::string& steps) const {
    return "version: 1\nserver: { data: " + folder + " }\ntables: { ships: { file: " + folder + "/" + table +
           " } }\nsources: { s: { files: { paths: [" + folder +
           "/x.log] } } }\npipelines: { p: { from: [s], steps: " + steps +
           ", to: [d] } }\ndestinations: { d: { nowhere: {} } }\n";
  }
  static constexpr const char* kLookUp =
      "[ parse: { templates: ['{code:word}'] }, lookup: { table: ships, by: code, take: { ship: name } } ]";
  static constexpr const char* kDigest = "[ digest: { find: [email], key: { env: DINGLE_TEST_SENT } } ]";

  std::shared_ptr<const Configuration> read(const std::string& yaml, const Configuration* running = nullptr) {
    Findings findings(yaml);
    auto c = running ? read_sent_configuration(yaml, findings, *running) : read_configuration(yaml, findings);
    EXPECT_TRUE(c) << (findings.all().empty() ? "" : findings.all()[0].message);
    told.clear();
    for (const Finding& f : findings.all()) told += f.message + "\n";
    return c;
  }
  static std::string body_of(const Configuration& c, const std::string& line) {
    const std::vector<SampleLine> lines{{line}};
    const Rehearsal r({c, "s", "p", lines, 1'795'000'000 * kSecond});
    return std::string(r.pipelines().front().events.at(0).body);
  }
  std::string told;
};

TEST_F(SentConfiguration, HasTheTablesThatRunAndNoOthers) {
  const auto running = read(text("ships.csv", kLookUp));
  ASSERT_NE(running->tables[0].handle->now(), nullptr);
  EXPECT_EQ(read(text("ships.csv", kLookUp), running.get())->tables[0].handle, running->tables[0].handle);
  const auto other = read(text("private.csv", kLookUp), running.get());
  EXPECT_EQ(other->tables[0].handle->now(), nullptr);
  EXPECT_NE(told.find("what is sent opens no file"), std::string::npos) << told;
  EXPECT_EQ(told.find("token"), std::string::npos) << told;
  EXPECT_EQ(read(text("nothing.csv", kLookUp), running.get())->tables[0].handle->now(), nullptr);
}

TEST_F(SentConfiguration, LearnsNoDigest) {
  const auto running = read(text("ships.csv", kDigest));
  const std::string real = body_of(*running, "of a@skerry.example");
  EXPECT_EQ(real, body_of(*running, "of a@skerry.example"));
  EXPECT_NE(real, body_of(*read(text("ships.csv", kDigest), running.get()), "of a@skerry.example"));
  const auto tried = to_be_tried(running);
  EXPECT_NE(real, body_of(*tried, "of a@skerry.example"));
  EXPECT_EQ(tried, to_be_tried(running)) << "read once";
  EXPECT_EQ(body_of(*tried, "of a@skerry.example").find("a@"), std::string::npos);
}

TEST_F(SentConfiguration, EndsWhenItIsToldTo) {
  const auto c = read(text("ships.csv", "[]"));
  const std::vector<SampleLine> lines(5000, SampleLine{"a line"});
  int asked = 0;
  const auto ends = [&] { return ++asked > 1 ? std::string("enough") : std::string(); };
  const std::string yaml = text("ships.csv", "[ set: { fields: { a: b } } ]");
  EXPECT_THROW(Rehearsal({*read(yaml), "s", "p", lines, kSecond, {}, ends}), Rehearsal::Ended);
}

TEST_F(SentConfiguration, NorDoSecretsHoldUpAnybody) {
  ::mkfifo((folder + "/fifo").c_str(), 0600);
  std::ofstream(folder + "/large") << std::string(70'000, 'x');
  std::ofstream(folder + "/key") << "sesame\n";
  for (const auto& [name, why] :
       {std::pair{"fifo", "no regular file"}, {"large", "larger than 64 KiB"}, {"nobody", "No such file"}}) {
    const auto secret = read_secret_at("file:" + folder + "/" + name);
    ASSERT_FALSE(secret) << name;
    EXPECT_NE(secret.problem().message.find(why), std::string::npos) << secret.problem().message;
  }
  EXPECT_FALSE(read_secret_at("file:/dev/zero"));
  EXPECT_EQ(*read_secret_at("file:" + folder + "/key"), "sesame");
}

}  // namespace
}  // namespace dingle
