#include <algorithm>

#include "server/calls/call.h"
#include "server/json_answer.h"

namespace dingle {

namespace {

// Of the parameters as members of a form.
Json form_schema(const Call& call) {
  Json properties;
  for (const ParameterSpec& p : call.parameters)
    properties[p.name] = {{"description", p.text}, {"type", p.type}};
  return {{"type", "object"}, {"properties", properties}};
}

}  // namespace

std::string openapi_document() {
  Json root{{"openapi", "3.1.0"},
            {"info",
             {{"title", "Dingle"},
              {"version", "1"},
              {"description",
               "The API of dingled. Every call needs the token of the data folder: `Authorization: Bearer "
               "TOKEN`."}}}};
  root["security"] = Json::array({{{"token", Json::array()}}});
  const Json error{
      {"description", "What is wrong"},
      {"content", {{"application/problem+json", {{"schema", {{"$ref", "#/components/schemas/Problem"}}}}}}}};
  for (const Call& call : calls()) {
    std::string method = call.method;
    std::transform(method.begin(), method.end(), method.begin(),
                   [](char c) { return static_cast<char>(c | 0x20); });
    Json operation{{"summary", call.text}};
    operation["parameters"] = Json::array();
    if (const std::string path = call.path; path.find('{') != std::string::npos)
      operation["parameters"].push_back(
          {{"name", path.substr(path.find('{') + 1, path.size() - path.find('{') - 2)},
           {"in", "path"},
           {"required", true},
           {"schema", {{"type", "string"}}}});
    for (const ParameterSpec& p : call.parameters)
      operation["parameters"].push_back(
          {{"name", p.name}, {"in", "query"}, {"description", p.text}, {"schema", {{"type", p.type}}}});
    if (!call.body.empty()) {
      Json properties;
      for (const ParameterSpec& p : call.body) {
        Json schema{{"description", p.text}};
        if (const std::string type = p.type; type == "array" || type == "integers")
          schema["type"] = "array", schema["items"] = {{"type", type == "array" ? "string" : "integer"}};
        else
          schema["type"] = p.type;
        properties[p.name] = schema;
      }
      operation["requestBody"] = {
          {"required", call.needs_body},
          {"content",
           {{"application/json", {{"schema", {{"type", "object"}, {"properties", properties}}}}}}}};
    }
    operation["responses"] = {
        {"200",
         {{"description", "The answer"},
          {"content",
           {{call.content_type,
             call.answer == nullptr ? Json::object() : Json{{"schema", call.answer()}}}}}}},
        {"400", error},
        {"401", error},
        {"404", error}};
    if (takes_form(call)) {
      Json form = operation;
      form["summary"] = std::string(call.text) + " For questions that are longer than an address may be.";
      form["requestBody"] = {
          {"content", {{"application/x-www-form-urlencoded", {{"schema", form_schema(call)}}}}}};
      form.erase("parameters");
      root["paths"][call.path]["post"] = std::move(form);
    }
    root["paths"][call.path][method] = std::move(operation);
  }
  root["paths"]["/healthz"]["get"] = {{"summary", "Whether the program runs. Needs no token."},
                                      {"security", Json::array()},
                                      {"responses", {{"200", {{"description", "It runs"}}}}}};
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
