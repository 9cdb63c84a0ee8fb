// Tokens with names: who may call what. The program's own token, in the data folder, may do all.
//
// A file of SQLite keeps a hash of each (SHA-256: tokens are 256 random bits), its scopes, and when it was used last, to the
// minute. A token's text is told once, when it is made.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <string_view>
#include <vector>

#include "store/sqlite.h"

namespace dingle {

enum class Scope : unsigned {
  read = 1,     // status, events, versions
  lines = 2,    // lines as they came, before pipelines: what is held, unmatched, left over or dropped
  edit = 4,     // the configuration
  operate = 8,  // letters, indexes
  tokens = 16,  // who may what: the program's own token alone
  write = 32,   // events: agents elsewhere
};
inline constexpr unsigned kAllScopes = 63;
struct ScopeName {
  Scope scope;
  const char *name, *text;
};
const std::vector<ScopeName>& scope_names();  // those that a token may have

struct NamedToken {
  std::string name;
  unsigned scopes = 0;
  std::int64_t made = 0, used = 0;  // ns since 1970 UTC; used: 0 if never
};

std::string sha256(std::string_view text);  // 32 bytes
std::string random_token();                 // 64 hex digits; "" if the system gives no random bytes

// Thread-safe.
class Tokens {
 public:
  static constexpr std::size_t kMost = 1000;
  // The file is made when it is first needed; what is in the way of reading it, in `problem`.
  Tokens(std::string path, std::string& problem);
  ~Tokens();
  // The name of the token with that text, which is used now; "" if there is none.
  std::string name_of(std::string_view text, std::int64_t now);
  unsigned scopes_of(const std::string& name) const;  // 0 if there is none
  std::vector<NamedToken> list() const;
  // Answers its text. The problem: a name that is taken, or what is in the way of writing.
  std::string add(const std::string& name, unsigned scopes, std::int64_t now, std::string& problem);
  bool remove(const std::string& name, std::string& problem);  // false: there is none, or there is a problem

 private:
  Connection& connection();
  const std::string path_;
  mutable std::mutex mutex_;  // guards what follows
  std::unique_ptr<Connection> connection_;
  std::map<std::string, NamedToken> by_hash_;
  std::map<std::string, std::int64_t> noted_;  // by name: the use that stands in the file
};

}  // namespace dingle
