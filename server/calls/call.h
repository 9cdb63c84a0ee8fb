// A call of the API. One registration has all that dispatch, checks, and the OpenAPI document need; each family of calls is one
// file here.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "agent/json.h"
#include "server/asked.h"
#include "server/tokens.h"

namespace dingle {

struct Call {
  const char* method;
  const char* path;  // a last part in braces takes the rest
  const char* name;  // of what it does, for clients that are made of the description: `listEvents`
  const char* text;
  std::vector<OptionSpec> parameters = {};
  std::vector<OptionSpec> body = {};  // members of the JSON object that is sent, instead of parameters
  HttpAnswer (*run)(Api&, const Asked&) = nullptr;
  const char* example = nullptr;  // JSON of a good answer
  Json (*answer)() = nullptr;     // its JSON Schema (2020-12); none for a text that is no JSON
  int status = 200;               // of a good one
  const char* content_type = "application/json";
  const char* other_type = nullptr;  // what it may be instead
  Json (*line)() = nullptr;          // JSON Schema of each line, where it is a stream of NDJSON
  bool is_long = false;              // it may take minutes
  bool asks_stores = false;          // answered as of a moment at which no events are moved between indexes
  bool needs_body = true;
  const char* sends = "application/x-ndjson";  // a body that is no JSON object
  std::uint64_t largest = 1 << 20;             // bytes of its body
  Scope scope = Scope::read;
};

class CallRegistration {
 public:
  explicit CallRegistration(Call call);
};

const std::vector<Call>& calls();                 // by path and method
bool takes_form(const Call& call);                // by POST, its parameters
const Call* call_of(const HttpRequest& request);  // nullptr if there is none

// ---- schemas of answers ----
struct Member {
  const char* name;
  Json schema;
  bool always = true;
};
Json object_of(const std::vector<Member>& members);  // and no others
Member cut_at_bytes();                               // of an AnswerList
Json list_of(Json items);
Json map_of(Json values);
Json or_null(Json schema);
Json is_text();
Json is_moment();  // RFC 3339
Json is_integer();
Json is_number();
Json is_boolean();
Json is_anything();

}  // namespace dingle
