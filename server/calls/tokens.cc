// The calls about tokens with names.
#include <algorithm>

#include "core/nearest.h"
#include "core/time/instant.h"
#include "server/calls/call.h"
#include "server/json_answer.h"
#include "server/log.h"

namespace dingle {
namespace {

Json names_of_scopes(unsigned scopes) {
  Json all = Json::array();
  for (const ScopeName& s : scope_names())
    if (scopes & static_cast<unsigned>(s.scope)) all.push_back(s.name);
  return all;
}

HttpAnswer list_tokens(Api& api, const Asked&) {
  Json list = Json::array();
  for (const NamedToken& t : api.tokens().list())
    list.push_back({{"name", t.name},
                    {"scopes", names_of_scopes(t.scopes)},
                    {"made", format_rfc3339(t.made)},
                    {"used", t.used ? Json(format_rfc3339(t.used)) : Json()}});
  return json_answer({{"tokens", list}});
}

// Letters, digits, `.`, `_` and `-`: it stands in addresses and lists.
bool is_token_name(const std::string& name) {
  return !name.empty() && name.size() <= 64 && std::all_of(name.begin(), name.end(), [](char c) {
    return (c >= '0' && c <= '9') || (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '.' ||
           c == '_' || c == '-';
  });
}

HttpAnswer add_token(Api& api, const Asked& asked) {
  const std::string& name = asked.text("name");
  if (!is_token_name(name))
    return api_error(400, "`name` is 1 to 64 letters, digits, `.`, `_` or `-`", "for instance harbour-office",
                     "name");
  std::vector<std::string> names;
  for (const ScopeName& s : scope_names()) names.push_back(s.name);
  unsigned scopes = 0;
  for (const std::string& text : asked.texts("scopes")) {
    const auto found = std::find(names.begin(), names.end(), text);
    if (found == names.end()) {
      const std::string near = did_you_mean(text, names);
      return api_error(400, "there is no scope `" + text + "`", near.empty() ? one_of(names) : near,
                       "scopes");
    }
    scopes |= static_cast<unsigned>(scope_names()[static_cast<std::size_t>(found - names.begin())].scope);
  }
  std::string problem;
  const std::string token = api.tokens().add(name, scopes, system_now(), problem);
  if (token.empty()) return api_error(409, problem);
  log_info("token added", {{"name", name}, {"by", asked.request.who}});
  return json_answer({{"name", name}, {"scopes", names_of_scopes(scopes)}, {"token", token}});
}

HttpAnswer remove_token(Api& api, const Asked& asked) {
  const std::string& name = asked.part;
  std::string problem;
  if (!api.tokens().remove(name, problem)) {
    if (!problem.empty()) return api_error(500, problem);
    std::vector<std::string> names;
    for (const NamedToken& t : api.tokens().list()) names.push_back(t.name);
    return api_error(404, "there is no token `" + name + "`", did_you_mean(name, names), "name");
  }
  log_info("token removed", {{"name", name}, {"by", asked.request.who}});
  return json_answer({{"removed", name}});
}

Json scopes_schema() { return list_of({{"enum", {"read", "lines", "edit", "operate"}}}); }

const CallRegistration kListTokens(
    {.method = "GET",
     .path = "/v1/tokens",
     .name = "listTokens",
     .text = "The tokens with names: their scopes, and when they were used last.",
     .run = list_tokens,
     .example =
         R"({"tokens":[{"name":"harbour-office","scopes":["read"],"made":"2026-11-23T10:00:00Z","used":null}]})",
     .answer =
         [] {
           return object_of({{"tokens", list_of(object_of({{"name", is_text()},
                                                           {"scopes", scopes_schema()},
                                                           {"made", is_moment()},
                                                           {"used", or_null(is_moment())}}))}});
         },
     .scope = Scope::tokens});
const CallRegistration kAddToken(
    {.method = "POST",
     .path = "/v1/tokens",
     .name = "addToken",
     .text = "Makes a token. Its text is told once, here; a hash of it is kept.",
     .body = {{.name = "name", .text = "Its name.", .required = true},
              {.name = "scopes",
               .type = OptionType::texts,
               .text = "What it may: read, lines, edit, operate.",
               .required = true}},
     .run = add_token,
     .example = R"({"name":"harbour-office","scopes":["read"],"token":"86acc694...ffb"})",
     .answer =
         [] {
           return object_of({{"name", is_text()}, {"scopes", scopes_schema()}, {"token", is_text()}});
         },
     .scope = Scope::tokens});
const CallRegistration kRemoveToken({.method = "DELETE",
                                     .path = "/v1/tokens/{name}",
                                     .name = "removeToken",
                                     .text = "Removes a token; it works no more.",
                                     .run = remove_token,
                                     .example = R"({"removed":"harbour-office"})",
                                     .answer =
                                         [] {
                                           return object_of({{"removed", is_text()}});
                                         },
                                     .scope = Scope::tokens});

}  // namespace
}  // namespace dingle
