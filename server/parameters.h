// Reading the parameters of a call. What is wrong is thrown as `Refused`, which `Api::handle` answers.
#pragma once

#include <algorithm>
#include <charconv>
#include <string>
#include <vector>

#include "agent/json.h"
#include "core/time/instant.h"
#include "server/api.h"
#include "store/search.h"

namespace dingle {

// Thrown by the readers of parameters; becomes the answer.
struct Refused {
  HttpAnswer answer;
};

class Parameters {
 public:
  explicit Parameters(const HttpRequest& request) : request_(request) {}

  std::string text(const char* name, const std::string& fallback = "") const {
    auto it = request_.parameters.find(name);
    return it == request_.parameters.end() ? fallback : it->second;
  }
  std::vector<std::string> texts(const char* name) const {
    std::vector<std::string> all;
    auto [from, to] = request_.parameters.equal_range(name);
    for (auto it = from; it != to; ++it) all.push_back(it->second);
    return all;
  }
  bool flag(const char* name) const {
    const std::string given = text(name);
    if (given.empty() || given == "true" || given == "false") return given == "true";
    throw Refused{api_error(400, "`" + given + "` is neither `true` nor `false`", "", name)};
  }
  std::uint64_t number(const char* name, std::uint64_t fallback, std::uint64_t most) const {
    const std::string given = text(name);
    if (given.empty()) return fallback;
    std::uint64_t n = 0;
    auto r = std::from_chars(given.data(), given.data() + given.size(), n);
    if (r.ec != std::errc() || r.ptr != given.data() + given.size())
      throw Refused{api_error(400, "`" + given + "` is not a whole number", "", name)};
    if (n > most)
      throw Refused{api_error(400, "`" + std::string(name) + "` is at most " + std::to_string(most),
                              "narrow the time, or ask in parts: --to with the time of the last one", name)};
    return n;
  }
  std::int64_t moment(const char* name, std::int64_t fallback) const {
    const std::string given = text(name);
    if (given.empty()) return fallback;
    auto m = parse_moment(given, system_now());
    if (!m)
      throw Refused{api_error(400, "`" + given + "` is not a time",
                              "write 2026-11-23T10:00:00Z, 2026-11-23, now, or how long ago: 15m, 6h", name)};
    return *m;
  }
  std::int64_t duration(const char* name, std::int64_t fallback) const {
    const std::string given = text(name);
    if (given.empty()) return fallback;
    auto d = parse_duration(given);
    if (!d || *d == 0)
      throw Refused{api_error(400, "`" + given + "` is not a duration", "for instance 10s, 5m, 1h", name)};
    return *d;
  }
  Condition where() const {
    const std::string given = text("where");
    if (given.empty()) return Condition();
    auto c = Condition::parse(given);
    if (!c)
      throw Refused{api_error(400, c.problem().message, c.problem().hint, "where", c.problem().offset,
                              c.problem().length)};
    return std::move(*c);
  }
  Query query() const {
    Query q;
    q.where = where();
    q.from = moment("from", q.from);
    q.to = moment("to", q.to);
    q.indexes = texts("index");
    const std::int64_t within = duration("within", 60 * kSecond);
    if (within > 600 * kSecond)
      throw Refused{api_error(400, "`within` is at most 10m", "narrow the time: --from, --to", "within")};
    q.left = request_.left;
    q.until = std::chrono::steady_clock::now() + std::chrono::nanoseconds(within);
    return q;
  }

 private:
  const HttpRequest& request_;
};

// The object of a request's body.
inline Json body_of(const HttpRequest& r) {
  Json body = parse_json(r.body);
  if (!body.is_object())
    throw Refused{api_error(400, "the body must be a JSON object", "for instance {\"lines\": [\"...\"]}")};
  return body;
}

}  // namespace dingle
