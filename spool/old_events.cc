// Events of the former format, which dead letters may hold.
#include "spool/events.h"

namespace dingle {

// As it was before there were slices: text source, u64 stream, names, fields of the resource, and sections of one pipeline each.
bool EventDecoder::decode_old(std::string_view bytes, std::uint32_t destination,
                              std::vector<SpooledEvent>& events) {
  ByteReader r(bytes);
  std::string_view source = r.text();
  const std::uint64_t stream = r.u64();
  std::vector<FieldId> names;
  for (std::size_t n = r.count(); n-- && r.ok();) names.push_back(names_.id(r.text()));
  const auto fields = [&](std::string_view body) { return read(r, body, names); };
  const std::span<const Field> resource = fields({});
  std::uint32_t ordinal = 0;
  for (std::size_t sections = r.count(); sections-- && r.ok();) {
    SpooledEvent e;
    e.source = source;
    e.stream = stream;
    e.resource = resource;
    e.pipeline_id = static_cast<std::uint32_t>(r.varint());
    e.pipeline = r.text();
    e.configuration = r.text();
    std::vector<std::pair<std::uint32_t, std::vector<std::string_view>>> to;
    for (std::size_t n = r.count(2); n-- && r.ok();) {
      to.emplace_back(static_cast<std::uint32_t>(r.varint()), std::vector<std::string_view>());
      for (std::size_t k = r.count(); k-- && r.ok();) to.back().second.push_back(r.text());
    }
    bool wanted = destination == 0;
    for (const auto& [id, list] : to) wanted |= id == destination;
    for (std::size_t n = r.count(8); n-- && r.ok(); ++ordinal) {
      e.ordinal = ordinal;
      e.position = r.varint();
      e.branch = static_cast<std::uint32_t>(r.varint());
      e.template_number = static_cast<std::uint32_t>(r.varint());
      const std::int64_t ahead = r.zigzag();
      e.observed = r.zigzag();
      e.timestamp = static_cast<std::int64_t>(static_cast<std::uint64_t>(e.observed) +
                                              static_cast<std::uint64_t>(ahead));
      e.body = r.text();
      e.fields = fields(e.body);
      e.name = {};
      for (const auto& [id, list] : to) {
        if (list.empty()) continue;
        const std::uint64_t which = r.varint();
        if (which >= list.size()) return false;
        if (id == destination) e.name = list[which];
      }
      if (wanted && r.ok()) events.push_back(e);
    }
  }
  return r.ok() && r.at_end();
}

}  // namespace dingle
