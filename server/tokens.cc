#include "server/tokens.h"

#include <openssl/evp.h>
#include <openssl/rand.h>
#include <unistd.h>

#include <algorithm>
#include <utility>

#include "core/time/instant.h"
#include "store/own_file.h"

namespace dingle {
namespace {

constexpr std::int64_t kNoteEvery = 60 * kSecond;

}  // namespace

const std::vector<ScopeName>& scope_names() {
  static const std::vector<ScopeName> all{
      {Scope::read, "read", "status, events, versions"},
      {Scope::lines, "lines", "lines as they came: the newest, unmatched, left over, dropped"},
      {Scope::edit, "edit", "reload the configuration, return to a version"},
      {Scope::operate, "operate", "resend and discard letters, delete indexes"}};
  return all;
}

std::string sha256(std::string_view text) {
  std::string out(32, '\0');
  unsigned size = 0;
  EVP_Digest(text.data(), text.size(), reinterpret_cast<unsigned char*>(out.data()), &size, EVP_sha256(),
             nullptr);
  return out;
}

std::string random_token() {
  unsigned char bytes[32];
  if (RAND_bytes(bytes, sizeof bytes) != 1) return "";
  std::string token;
  for (const unsigned char b : bytes)
    token += "0123456789abcdef"[b >> 4], token += "0123456789abcdef"[b & 15];
  return token;
}

Tokens::Tokens(std::string path, std::string& problem) : path_(std::move(path)) {
  if (::access(path_.c_str(), F_OK) != 0) return;
  try {
    Statement s(connection().get(), "SELECT name, hash, scopes, made, used FROM token");
    while (s.step()) {
      NamedToken t{s.blob(0), static_cast<unsigned>(s.integer(2)), s.integer(3), s.integer(4)};
      noted_[t.name] = t.used;
      by_hash_[s.blob(1)] = std::move(t);
    }
  } catch (const SqliteError& error) {
    problem = std::string("tokens cannot be read, so only the program's own works: ") + error.what();
    by_hash_.clear();
  }
}

Tokens::~Tokens() = default;

Connection& Tokens::connection() {
  if (!connection_)
    connection_ = open_own_file(
        path_,
        "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL;"
        "CREATE TABLE IF NOT EXISTS token(name TEXT PRIMARY KEY, hash BLOB, scopes INTEGER, made INTEGER, "
        "used "
        "INTEGER)");
  return *connection_;
}

std::string Tokens::name_of(std::string_view text, std::int64_t now) {
  if (text.empty()) return "";
  const std::string hash = sha256(text);
  std::lock_guard lock(mutex_);
  const auto it = by_hash_.find(hash);
  if (it == by_hash_.end()) return "";
  NamedToken& t = it->second;
  t.used = now;
  if (std::int64_t& noted = noted_[t.name]; now - noted >= kNoteEvery || now < noted) {
    noted = now;
    try {
      Statement s(connection().get(), "UPDATE token SET used = ? WHERE name = ?");
      s.bind(1, now).bind_text(2, t.name).run();
    } catch (const SqliteError&) {
      // On a full disk its last use is known while the program runs.
    }
  }
  return t.name;
}

unsigned Tokens::scopes_of(const std::string& name) const {
  std::lock_guard lock(mutex_);
  for (const auto& [hash, t] : by_hash_)
    if (t.name == name) return t.scopes;
  return 0;
}

std::vector<NamedToken> Tokens::list() const {
  std::lock_guard lock(mutex_);
  std::vector<NamedToken> all;
  for (const auto& [hash, t] : by_hash_) all.push_back(t);
  std::sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.name < b.name; });
  return all;
}

std::string Tokens::add(const std::string& name, unsigned scopes, std::int64_t now, std::string& problem) {
  const std::string text = random_token();
  if (text.empty()) return problem = "the system gives no random bytes for a token", "";
  const std::string hash = sha256(text);
  std::lock_guard lock(mutex_);
  if (by_hash_.size() >= kMost)
    return problem = "there are " + std::to_string(kMost) + " tokens, which is the most", "";
  for (const auto& [other, t] : by_hash_)
    if (t.name == name) return problem = "there is a token `" + name + "` already", "";
  try {
    Statement s(connection().get(),
                "INSERT INTO token(name, hash, scopes, made, used) VALUES(?, ?, ?, ?, 0)");
    s.bind_text(1, name).bind_blob(2, hash).bind(3, std::int64_t{scopes});
    s.bind(4, now).run();
  } catch (const SqliteError& error) {
    return problem = std::string("the token cannot be kept: ") + error.what(), "";
  }
  by_hash_[hash] = {name, scopes, now, 0};
  return text;
}

bool Tokens::remove(const std::string& name, std::string& problem) {
  std::lock_guard lock(mutex_);
  const auto it =
      std::find_if(by_hash_.begin(), by_hash_.end(), [&](const auto& t) { return t.second.name == name; });
  if (it == by_hash_.end()) return false;
  try {
    Statement s(connection().get(), "DELETE FROM token WHERE name = ?");
    s.bind_text(1, name).run();
  } catch (const SqliteError& error) {
    problem = std::string("the token cannot be removed: ") + error.what();
    return false;
  }
  noted_.erase(name);
  by_hash_.erase(it);
  return true;
}

}  // namespace dingle
