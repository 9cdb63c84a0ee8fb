// The table of the API's calls, for dispatch and for the OpenAPI document.
#pragma once

#include <vector>

#include "server/api.h"

namespace dingle {

struct ParameterSpec {
  const char* name;
  const char* type;  // of OpenAPI: string, integer, number
  const char* text;
};

struct Call {
  const char* method;
  const char* path;  // a last part in braces takes the rest
  const char* text;
  std::vector<ParameterSpec> parameters;
  HttpAnswer (*run)(Api&, const HttpRequest&);
  std::vector<ParameterSpec> body = {};  // members of the JSON object that is sent
  bool is_long = false;                  // it may take minutes
};
const std::vector<Call>& calls();
bool takes_form(const Call& call);  // by POST, its parameters
bool is_long(const HttpRequest& head);

HttpAnswer list_events(Api& api, const HttpRequest& request);
HttpAnswer top_values(Api& api, const HttpRequest& request);
HttpAnswer count_over_time(Api& api, const HttpRequest& request);
HttpAnswer list_indexes(Api& api, const HttpRequest& request);
HttpAnswer remove_index(Api& api, const HttpRequest& request);

HttpAnswer try_templates(Api& api, const HttpRequest& request);
HttpAnswer draft_lines(Api& api, const HttpRequest& request);
HttpAnswer newest_lines(Api& api, const HttpRequest& request);
HttpAnswer unmatched_lines(Api& api, const HttpRequest& request);
HttpAnswer leftover_lines(Api& api, const HttpRequest& request);

HttpAnswer reload_configuration(Api& api, const HttpRequest& request);
HttpAnswer list_versions(Api& api, const HttpRequest& request);
HttpAnswer show_version(Api& api, const HttpRequest& request);
HttpAnswer return_to_version(Api& api, const HttpRequest& request);

HttpAnswer list_letters(Api& api, const HttpRequest& request);
HttpAnswer count_letters(Api& api, const HttpRequest& request);
HttpAnswer resend_letters(Api& api, const HttpRequest& request);
HttpAnswer discard_letters(Api& api, const HttpRequest& request);

}  // namespace dingle
