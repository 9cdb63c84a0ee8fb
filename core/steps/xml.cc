// xml: parts of an XML element become fields.
#include "core/steps/structured.h"

namespace dingle {
namespace {

const ComponentSpec kXmlSpec{
    "xml",
    "Takes values from an XML element in a text, wherever in it they stand: each field has a path of "
    "elements, which begins "
    "with `/` at the outermost one, else anywhere; `@name` at its end is an attribute, `[@name='value']` "
    "tells equal elements "
    "apart, and a pattern behind a colon gives a type. What is not there gives no field. A text without a "
    "whole element is kept "
    "as it is, marked with `dingle.unmatched`, and counted. Costs one pass over the element.",
    "xml: { values: { ship: \"value[@name='ship']\", lat: '/call/position/@lat:decimal' } }",
    {{.name = "values", .type = OptionType::values, .text = "Fields and their paths.", .required = true},
     {.name = "field",
      .type = OptionType::field,
      .fallback = "body",
      .text = "The field that holds the text."}}};

class XmlStep final : public Structured {
 protected:
  std::string_view within(std::string_view text) const override {
    const std::size_t at = text.find('<');
    return at == std::string_view::npos ? text : text.substr(at);
  }
};

std::unique_ptr<Step> make_xml(const StepMaking& m) {
  auto step = std::make_unique<XmlStep>();
  std::string pattern;
  for (const auto& entry : m.options.tree("values").entries)
    pattern += (pattern.empty() ? "" : ", ") + entry.key + "=" + as_parameter(entry.value.scalar);
  if (!make_structured(m, *step, "xml(" + pattern + ")", true, "values")) return nullptr;
  return step;
}

const StepRegistration xml_step({kXmlSpec, make_xml});

}  // namespace
}  // namespace dingle
