// All folders of a run of these tests are in one, which goes when they passed.
#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>

namespace {

class TemporaryFolder final : public testing::Environment {
  void SetUp() override {
    std::string pattern = testing::TempDir() + "/dingle-tests-XXXXXX";
    ASSERT_NE(::mkdtemp(pattern.data()), nullptr);
    std::filesystem::permissions(pattern, std::filesystem::perms(0711));  // servers of other users work in it
    ::setenv("TEST_TMPDIR", pattern.c_str(), 1);
    folder_ = pattern;
  }
  void TearDown() override {
    std::error_code ignored;
    if (testing::UnitTest::GetInstance()->Passed()) std::filesystem::remove_all(folder_, ignored);
  }
  std::filesystem::path folder_;
};

const auto* const folder = testing::AddGlobalTestEnvironment(new TemporaryFolder);

}  // namespace
