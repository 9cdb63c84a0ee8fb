// Versions of the configuration, and back to one of them.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <filesystem>
#include <fstream>

#include "tests/end_to_end/daemon.h"

namespace dingle {
namespace {

constexpr const char* kBerths = R"(
sources: { berth: { files: { paths: ['{dir}/logs/*.log'] } } }
pipelines:
  berth: { from: [berth], steps: [ parse: { templates: ['{ship:word} {berth:word}'] } ], to: [store] }
destinations: { store: { index: {} } }
)";

class VersionsOfDaemon : public testing::Test {
 protected:
  Daemon daemon{kBerths};
  std::string file() const { return daemon.dir + "/dingle.yaml"; }
  std::string on_disk() const {
    std::ifstream in(file());
    return {std::istreambuf_iterator<char>(in), {}};
  }
  Json list() { return Json::parse(daemon.dingle({"versions", "--output", "json"}).out); }
  Ran reload(const std::string& text, const std::string& note) {
    daemon.configure(text);
    return daemon.dingle({"reload", "--note", note});
  }
  std::string with(const std::string& field) const {
    std::string text = kBerths;
    return text.replace(text.find("berth:word"), 5, field);
  }
};

TEST_F(VersionsOfDaemon, EachTextThatRanOrWasRefusedIsKept) {
  daemon.start();
  EXPECT_EQ(reload(with("quay"), "berths are quays").status, 0);
  EXPECT_EQ(reload(with("quay") + "pipelines: [\n", "oops").status, 1);
  const Json all = list();
  ASSERT_EQ(all.size(), 3u);
  EXPECT_EQ(all[0]["outcome"], "refused");
  EXPECT_EQ(all[0]["parent"], 2);
  EXPECT_EQ(all[1]["running"], true);
  EXPECT_EQ(all[1]["note"], "berths are quays");
  EXPECT_NE(all[1]["who"].get<std::string>().find('@'), std::string::npos);
  EXPECT_EQ(all[2]["who"], "start");
  EXPECT_EQ(all[1]["configuration"], daemon.status()["configuration"]);
  const Ran shown = daemon.dingle({"versions", "difference", "2"});
  EXPECT_NE(shown.out.find(
                "\n-  berth: { from: [berth], steps: [ parse: { templates: ['{ship:word} {berth:word}']"),
            std::string::npos)
      << shown.out;
  EXPECT_NE(
      shown.out.find("\n+  berth: { from: [berth], steps: [ parse: { templates: ['{ship:word} {quay:word}']"),
      std::string::npos)
      << shown.out;
  EXPECT_EQ(daemon.dingle({"versions", "difference", "2", "2"}).out, "no difference\n");
  EXPECT_NE(daemon.dingle({"versions", "show", "1"}).out.find("{berth:word}"), std::string::npos);
  const Ran missing = daemon.dingle({"versions", "show", "9"});
  EXPECT_EQ(missing.status, 1);
  EXPECT_NE(missing.err.find("there is no version 9"), std::string::npos) << missing.err;
  // A restart with the text that runs is no version.
  daemon.configure(with("quay"));
  daemon.terminate();
  daemon.start();
  EXPECT_EQ(list().size(), 3u);
}

TEST_F(VersionsOfDaemon, ReturningWritesTheFileAsItIsAndTakesIt) {
  daemon.start();
  const std::string first = on_disk();
  ASSERT_EQ(reload(with("quay"), "").status, 0);
  const std::string real = daemon.dir + "/real.yaml";
  std::filesystem::rename(file(), real);
  std::filesystem::create_symlink(real, file());
  ::chmod(real.c_str(), 0640);
  const Ran back = daemon.dingle({"versions", "return", "1"});
  EXPECT_EQ(back.status, 0) << back.err;
  EXPECT_EQ(on_disk(), first);
  EXPECT_TRUE(std::filesystem::is_symlink(file()));
  struct stat s {};
  ASSERT_EQ(::stat(real.c_str(), &s), 0);
  EXPECT_EQ(s.st_mode & 0777, 0640u);
  const Json all = list();
  EXPECT_EQ(all[0]["version"], 3);
  EXPECT_EQ(all[0]["running"], true);
  EXPECT_EQ(all[0]["note"], "as version 1");
  EXPECT_EQ(all[0]["configuration"], daemon.status()["configuration"]);
  const Ran again = daemon.dingle({"versions", "return", "1"});
  EXPECT_NE(again.err.find("runs already"), std::string::npos) << again.err;
}

TEST_F(VersionsOfDaemon, ReturningOverwritesNobodysWork) {
  daemon.start();
  ASSERT_EQ(reload(with("quay"), "").status, 0);
  daemon.configure(with("somebody.was.here"));
  const std::string theirs = on_disk();
  const Ran back = daemon.dingle({"versions", "return", "1"});
  EXPECT_EQ(back.status, 1);
  EXPECT_NE(back.err.find("is not what runs"), std::string::npos) << back.err;
  EXPECT_NE(
      back.out.find(
          "+  berth: { from: [berth], steps: [ parse: { templates: ['{ship:word} {somebody.was.here:word}']"),
      std::string::npos)
      << back.out;
  EXPECT_NE(
      back.out.find("+  berth: { from: [berth], steps: [ parse: { templates: ['{ship:word} {berth:word}']"),
      std::string::npos);
  EXPECT_EQ(on_disk(), theirs);
  EXPECT_EQ(list().size(), 2u);
}

TEST_F(VersionsOfDaemon, WhatCannotRunAnyMoreLeavesTheFileAlone) {
  std::filesystem::create_directories(daemon.dir + "/data/indexes");
  std::ofstream(daemon.dir + "/data/indexes/2") << "in the way";
  daemon.start();
  std::string other = kBerths;
  for (std::size_t at; (at = other.find("store")) != std::string::npos;) other.replace(at, 5, "table");
  ASSERT_EQ(reload(other, "").status, 0);
  daemon.write("a.log", "tern north-2\n");
  ASSERT_TRUE(eventually([&] { return daemon.status()["destinations"][0]["waiting"] == 1; }));
  const std::string before = on_disk();
  const Ran back = daemon.dingle({"versions", "return", "1"});
  EXPECT_EQ(back.status, 1);
  EXPECT_NE(back.err.find("still wait"), std::string::npos) << back.err;
  EXPECT_NE(back.err.find("the file is as it was"), std::string::npos) << back.err;
  EXPECT_EQ(on_disk(), before);
  EXPECT_EQ(list()[0]["outcome"], "refused");
}

}  // namespace
}  // namespace dingle
