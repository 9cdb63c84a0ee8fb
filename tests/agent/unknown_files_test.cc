// What cannot be looked at is unknown, never gone: whichever call fails, and however, no line is read twice, and none is lost.
#include <cerrno>
#include <cstring>

#include "tests/agent/files_source.h"

namespace dingle {
namespace {

// Fails one kind of call with one error, while it is told to.
class Refusing final : public FileAccess {
 public:
  enum class Call { list, status, link_status, open, read };
  Call call = Call::list;
  std::atomic<int> error{0};
  mutable std::atomic<int> refused{0};

  int list(const std::string& folder, std::vector<Entry>& entries) const override {
    return refuses(Call::list) ? error.load() : FileAccess::list(folder, entries);
  }
  int status(const std::string& path, struct stat& info) const override {
    return refuses(Call::status) ? error.load() : FileAccess::status(path, info);
  }
  int link_status(const std::string& path, struct stat& info) const override {
    return refuses(Call::link_status) ? error.load() : FileAccess::link_status(path, info);
  }
  int open(const std::string& path, int& fd) const override {
    return refuses(Call::open) ? error.load() : FileAccess::open(path, fd);
  }
  ssize_t read(int fd, char* to, std::size_t size, std::uint64_t at) const override {
    if (!refuses(Call::read)) return FileAccess::read(fd, to, size, at);
    errno = error;
    return -1;
  }

 private:
  bool refuses(Call asked) const {
    if (call != asked || error == 0) return false;
    ++refused;
    return true;
  }
};

using Call = Refusing::Call;

class UnknownFiles : public FilesSourceTest, public testing::WithParamInterface<std::tuple<Call, int>> {
 protected:
  Refusing refusing;
  void SetUp() override {
    FilesSourceTest::SetUp();
    access = &refusing;
    refusing.call = std::get<0>(GetParam());
    // A path without signs is asked about, others are listed.
    if (refusing.call == Call::link_status) paths = "/logs/gate.log";
  }
  int error() const { return std::get<1>(GetParam()); }
  // Until the call was refused, and looked for again behind that.
  bool was_refused() {
    return until([this, before = refusing.refused.load()] { return refusing.refused > before + 2; });
  }
  bool is_told() {
    return until([this] { return told().find(std::strerror(error())) != std::string::npos; });
  }
};

TEST_P(UnknownFiles, KeepTheirPlacesOverAStart) {
  append("logs/gate.log", "one\ntwo\n");
  EXPECT_EQ(read(), (Lines{"one", "two"}));
  append("logs/gate.log", "three\n");
  refusing.error = error();
  start();
  EXPECT_TRUE(was_refused());
  EXPECT_TRUE(is_told()) << told();
  EXPECT_EQ(told().find("no file matches"), std::string::npos) << told();
  const Lines meanwhile = stop();
  EXPECT_TRUE(meanwhile.empty() || meanwhile == Lines{"three"}) << meanwhile[0];
  refusing.error = 0;
  Lines all = meanwhile;
  for (const std::string& line : read()) all.push_back(line);
  EXPECT_EQ(all, Lines{"three"});
}

TEST_P(UnknownFiles, KeepTheirPlacesWhileItRuns) {
  append("logs/gate.log", "one\nhal");
  options = ", unfinished_after: 1h";
  start();
  ASSERT_TRUE(until([&] { return intake->lines() == Lines{"one"}; }));
  refusing.error = error();
  clock.steady_ahead += 2'000'000'000;  // folders are listed
  append("logs/gate.log", "f");
  if (refusing.call != Call::open) {  // it is open already
    EXPECT_TRUE(was_refused());
  }
  append("logs/gate.log", " and half\n");
  refusing.error = 0;
  clock.steady_ahead += 2'000'000'000;
  EXPECT_TRUE(until([&] { return intake->lines().size() == 2; }));
  EXPECT_TRUE(until([&] { return told().empty(); })) << told();
  EXPECT_EQ(stop(), (Lines{"one", "half and half"}));
}

INSTANTIATE_TEST_SUITE_P(All, UnknownFiles,
                         testing::Combine(testing::Values(Call::list, Call::status, Call::link_status,
                                                          Call::open, Call::read),
                                          testing::Values(EACCES, EIO, ESTALE)));

class MovedFiles : public FilesSourceTest {};

TEST_F(MovedFiles, AreReadOnFromWhereRotationPutThem) {
  for (const char* to : {"logs/old", "archive"}) {
    std::filesystem::create_directories(folder / to);
    append("logs/gate.log", "one\n");
    EXPECT_EQ(read(), Lines{"one"});
    append("logs/gate.log", "two\n");
    std::filesystem::rename(folder / "logs/gate.log", folder / to / "gate-20261202.log");
    append("logs/gate.log", "three\n");
    EXPECT_EQ(read(), (Lines{"two", "three"})) << to;
    std::filesystem::remove(folder / "logs/gate.log");
    std::filesystem::remove(folder / to / "gate-20261202.log");
    read();
  }
}

TEST_F(MovedFiles, AreCountedWhenTheyAreNowhere) {
  append("logs/gate.log", "one\n");
  read();
  std::filesystem::remove(folder / "logs/gate.log");
  read();
  EXPECT_EQ(spool->counter("source/s/vanished"), 1);
  read();
  EXPECT_EQ(spool->counter("source/s/vanished"), 1);
}

}  // namespace
}  // namespace dingle
