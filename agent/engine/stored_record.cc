#include "agent/engine/stored_record.h"

#include <vector>

#include "spool/events.h"

namespace dingle {

std::string record_of(const StoredEvent& e, std::uint32_t destination) {
  SpooledEvent s;
  s.stream = e.stream;
  s.position = e.position;
  s.branch = e.branch;
  s.timestamp = e.timestamp;
  s.observed = e.observed;
  s.body = e.body;
  s.fields = e.fields;
  std::vector<Field> resource;
  for (const Field& f : e.more) {
    if (f.name == names::source)
      s.source = f.value.as_text();
    else if (f.name == names::zone)
      s.zone = f.value.as_text();
    else if (f.name == names::pipeline)
      s.pipeline = f.value.as_text();
    else if (f.name == names::configuration)
      s.configuration = f.value.as_text();
    else if (f.name == names::template_number)
      s.template_number = static_cast<std::uint32_t>(f.value.as_integer());
    else if (f.name == names::altered)
      s.altered = true;
    else
      resource.push_back(f);
  }
  s.resource = resource;
  return encode_event(s, destination);
}

}  // namespace dingle
