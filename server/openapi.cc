#include <algorithm>

#include "server/calls/call.h"
#include "server/json_answer.h"

namespace dingle {

namespace {

Json described(const OptionSpec& option) {
  Json schema = schema_of_asked(option);
  schema["description"] = option.text;
  return schema;
}

// Of the options as members of an object.
Json object_schema(const std::vector<OptionSpec>& options) {
  Json schema{{"type", "object"}, {"properties", Json::object()}, {"additionalProperties", false}};
  for (const OptionSpec& o : options) {
    schema["properties"][o.name] = described(o);
    if (o.required) schema["required"].push_back(o.name);
  }
  return schema;
}

Json parameters_of(const Call& call) {
  Json all = Json::array();
  if (const std::string path = call.path; path.find('{') != std::string::npos)
    all.push_back({{"name", path.substr(path.find('{') + 1, path.size() - path.find('{') - 2)},
                   {"in", "path"},
                   {"required", true},
                   {"schema", {{"type", "string"}}}});
  for (const OptionSpec& o : call.parameters)
    all.push_back({{"name", o.name},
                   {"in", "query"},
                   {"description", o.text},
                   {"required", o.required},
                   {"schema", schema_of_asked(o)}});
  return all;
}

Json good_answer(const Call& call) {
  const auto content = [&](std::string_view type) {
    Json text{{"type", "string"}};
    if (type != "application/json") {
      if (call.line != nullptr) text["contentMediaType"] = type, text["contentSchema"] = call.line();
      return Json{{"schema", text}};
    }
    Json json = Json::object();
    if (call.answer != nullptr) json["schema"] = call.answer();
    if (call.example != nullptr) json["example"] = parse_json(call.example);
    return json;
  };
  Json types{{call.content_type, content(call.content_type)}};
  if (call.other_type != nullptr) types[call.other_type] = content(call.other_type);
  Json answer{{"description", call.status == 202 ? "It is begun: the job" : "The answer"},
              {"content", types}};
  if (call.line != nullptr)
    answer["description"] = "The answer; of a stream, the schema is that of each line";
  if (call.status == 202)
    answer["headers"] = {
        {"Location", {{"description", "Where the job is"}, {"schema", {{"type", "string"}}}}}};
  return answer;
}

const char* name_of(Scope scope) {
  for (const ScopeName& s : scope_names())
    if (s.scope == scope) return s.name;
  return scope == Scope::write ? "an agent's token" : "the program's own token";
}

}  // namespace

std::string openapi_document() {
  Json root{{"openapi", "3.1.0"},
            {"info",
             {{"title", "Dingle"},
              {"version", "1"},
              {"license", {{"name", "MIT"}, {"identifier", "MIT"}}},
              {"description",
               "The API of dingled. Every call needs the token of the data folder: `Authorization: Bearer "
               "TOKEN`."}}}};
  root["servers"] = Json::array(
      {{{"url", "http://{address}"},
        {"variables", {{"address", {{"default", "127.0.0.1:3464"}, {"description", "`server.listen`"}}}}}}});
  root["security"] = Json::array({{{"token", Json::array()}}});
  const Json problem{
      {"description", "What is wrong"},
      {"content", {{"application/problem+json", {{"schema", {{"$ref", "#/components/schemas/Problem"}}}}}}}};
  for (const Call& call : calls()) {
    std::string method = call.method;
    std::transform(method.begin(), method.end(), method.begin(),
                   [](char c) { return static_cast<char>(c | 0x20); });
    Json operation{{"operationId", call.name}, {"summary", call.text}};
    operation["description"] = std::string("Scope: ") + name_of(call.scope) + ".";
    operation["parameters"] = parameters_of(call);
    if (!call.body.empty())
      operation["requestBody"] = {
          {"required", call.needs_body},
          {"content", {{"application/json", {{"schema", object_schema(call.body)}}}}}};
    else if (std::string_view(call.method) == "POST")
      operation["requestBody"] = {{"required", call.needs_body},
                                  {"content", {{call.sends, {{"schema", {{"type", "string"}}}}}}}};
    operation["responses"] = {{std::to_string(call.status), good_answer(call)},
                              {"400", problem},
                              {"401", problem},
                              {"403", problem},
                              {"404", problem},
                              {"default", problem}};
    if (takes_form(call)) {
      Json form = operation;
      form["operationId"] = call.name + std::string("ByForm");
      form["summary"] = std::string(call.text) + " For questions that are longer than an address may be.";
      form["requestBody"] = {
          {"required", true},
          {"content", {{"application/x-www-form-urlencoded", {{"schema", object_schema(call.parameters)}}}}}};
      form.erase("parameters");
      root["paths"][call.path]["post"] = std::move(form);
    }
    root["paths"][call.path][method] = std::move(operation);
  }
  root["paths"]["/healthz"]["get"] = {
      {"operationId", "showHealth"},
      {"summary", "Whether the program runs. Needs no token."},
      {"security", Json::array()},
      {"responses",
       {{"200",
         {{"description", "It runs"},
          {"content", {{"application/json", {{"schema", object_of({{"status", is_text()}})}}}}}}},
        {"400", problem},
        {"default", problem}}}};
  root["components"] = {
      {"securitySchemes", {{"token", {{"type", "http"}, {"scheme", "bearer"}}}}},
      {"schemas",
       {{"Problem",
         {{"description", "Problem details (RFC 9457)"},
          {"type", "object"},
          {"required", {"title", "status", "detail"}},
          {"properties",
           {{"title", {{"type", "string"}}},
            {"status", {{"type", "integer"}}},
            {"detail", {{"type", "string"}}},
            {"hint", {{"type", "string"}, {"description", "What to do."}}},
            {"parameter", {{"type", "string"}, {"description", "The one that is wrong;"}}},
            {"offset", {{"type", "integer"}, {"description", "in it, or in the body, from this byte"}}},
            {"length", {{"type", "integer"}, {"description", "so many bytes."}}}}}}}}}};
  return dump(root, 2) + "\n";
}

}  // namespace dingle
