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
  ApiAnswer (*run)(Api&, const ApiRequest&);
  std::vector<ParameterSpec> body = {};  // members of the JSON object that is sent
};
const std::vector<Call>& calls();

ApiAnswer list_events(Api& api, const ApiRequest& request);
ApiAnswer top_values(Api& api, const ApiRequest& request);
ApiAnswer count_over_time(Api& api, const ApiRequest& request);
ApiAnswer list_indexes(Api& api, const ApiRequest& request);
ApiAnswer remove_index(Api& api, const ApiRequest& request);

ApiAnswer try_templates(Api& api, const ApiRequest& request);
ApiAnswer draft_lines(Api& api, const ApiRequest& request);
ApiAnswer newest_lines(Api& api, const ApiRequest& request);
ApiAnswer unmatched_lines(Api& api, const ApiRequest& request);
ApiAnswer leftover_lines(Api& api, const ApiRequest& request);

ApiAnswer reload_configuration(Api& api, const ApiRequest& request);
ApiAnswer list_versions(Api& api, const ApiRequest& request);
ApiAnswer show_version(Api& api, const ApiRequest& request);
ApiAnswer return_to_version(Api& api, const ApiRequest& request);

ApiAnswer list_letters(Api& api, const ApiRequest& request);
ApiAnswer count_letters(Api& api, const ApiRequest& request);
ApiAnswer resend_letters(Api& api, const ApiRequest& request);
ApiAnswer discard_letters(Api& api, const ApiRequest& request);

}  // namespace dingle
