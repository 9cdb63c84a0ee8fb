#include "server/api.h"

#include <gtest/gtest.h>

#include <fstream>
#include <nlohmann/json.hpp>
#include <sstream>

#include "agent/secret.h"
#include "server/token.h"

namespace dingle {
namespace {

TEST(OpenApi, DocumentIsWhatTheProgramServes) {
  std::ifstream in(std::string(DINGLE_SOURCE) + "/docs/openapi.json");
  std::ostringstream all;
  all << in.rdbuf();
  EXPECT_EQ(all.str(), openapi_document()) << "scripts/generate writes it anew";
  EXPECT_EQ(nlohmann::json::parse(openapi_document())["openapi"], "3.1.0");
}

TEST(Token, IsMadeOnceAndOnlyForItsOwner) {
  const std::string folder = testing::TempDir();
  ::unlink((folder + "/token").c_str());
  std::string problem;
  const std::string token = token_of(folder, &problem);
  EXPECT_EQ(token.size(), 64u);
  EXPECT_EQ(token_of(folder, &problem), token);
  ASSERT_EQ(::system(("chmod 644 " + folder + "/token").c_str()), 0);
  EXPECT_EQ(token_of(folder, &problem), "");
  EXPECT_NE(problem, "");
  EXPECT_NE(problem.find("can be read by others"), std::string::npos);
  ::unlink((folder + "/token").c_str());
}

TEST(Token, ComparesWhole) {
  EXPECT_TRUE(tokens_equal("abc", "abc"));
  EXPECT_FALSE(tokens_equal("abc", "abd"));
  EXPECT_FALSE(tokens_equal("abc", "ab"));
}

}  // namespace
}  // namespace dingle
