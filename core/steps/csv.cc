// csv: the cells of a CSV line become fields.
#include "core/steps/structured.h"

namespace dingle {
namespace {

const ComponentSpec kCsvSpec{
    "csv",
    "Takes a CSV line (RFC 4180) apart: each cell becomes the field that stands at its place in `columns`. "
    "An empty cell of a "
    "typed column gives no field. A line with other cells is kept as it is, marked with `dingle.unmatched`, "
    "and counted; the "
    "reason names the column. Costs one look at each byte.",
    "csv: { columns: [ship, 'berth:int', '', 'load_t:decimal'], separator: ';' }",
    {{.name = "columns",
      .type = OptionType::texts,
      .text = "By place: a field's name, or `name:pattern` for a type; empty for a cell that is not kept.",
      .required = true},
     {.name = "field",
      .type = OptionType::field,
      .fallback = "body",
      .text = "The field that holds the line."},
     {.name = "separator", .type = OptionType::text, .fallback = ",", .text = "One byte; `\\t` for a tab."},
     {.name = "quote", .type = OptionType::text, .fallback = "\"", .text = "One byte."},
     {.name = "more_cells",
      .type = OptionType::boolean,
      .fallback = "false",
      .text = "Further cells behind the last column are no failure."}}};

std::unique_ptr<Step> make_csv(const StepMaking& m) {
  auto step = std::make_unique<Structured>();
  std::string pattern = "csv(separator=" + as_parameter(m.options.text("separator")) +
                        ", quote=" + as_parameter(m.options.text("quote"));
  for (const std::string& column : m.options.texts("columns")) pattern += ", " + as_parameter(column);
  if (!make_structured(m, *step, pattern + ")", m.options.flag("more_cells"), "columns")) return nullptr;
  return step;
}

const StepRegistration csv_step({kCsvSpec, make_csv});

}  // namespace
}  // namespace dingle
