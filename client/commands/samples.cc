// dingle samples: lines kept under names, to rehearse with.
#include <iostream>

#include "client/connection.h"
#include "client/table.h"
#include "client/times.h"

namespace dingle {
namespace {

struct SamplesOptions {
  std::string name, source, file;
  std::vector<std::string> lines, names;
  std::size_t newest = 500;
  bool add = false;
};

int list(const Client& client) {
  const Answer a = call(client, "GET", "/v1/samples", {});
  if (!a.ok) return kFoundProblems;
  using Look = Column::Look;
  print_rows(client,
             {{"name", "SET"},
              {"source", "SOURCE"},
              {"lines", "LINES", Look::count},
              {"bytes", "BYTES", Look::bytes},
              {"at", "CHANGED", Look::time},
              {"by", "BY"}},
             {a.body["samples"].begin(), a.body["samples"].end()});
  for (const Json& problem : a.body["problems"])
    std::cerr << "dingle: " << problem.get<std::string>() << "\n";
  return a.body["problems"].empty() ? kFine : kFoundProblems;
}

int keep(const Client& client, const SamplesOptions& o) {
  Json body{{"name", o.name}, {"source", o.source}, {"add", o.add}};
  std::string text;
  if (!o.lines.empty() && !o.file.empty()) {
    std::cerr << "dingle: give a file, or lines\n";
    return kUsage;
  }
  if (!o.file.empty() && !read_input(o.file, text)) return kFoundProblems;
  if (!o.lines.empty())
    body["lines"] = o.lines;
  else if (!o.file.empty())
    body["text"] = text;
  else
    body["newest"] = o.newest;
  const Answer a = call(client, "POST", "/v1/samples", {}, true, dump(body));
  if (!a.ok) return kFoundProblems;
  std::cout << "kept: " << a.body["name"].get<std::string>() << ", "
            << counted(a.body["lines"].get<std::int64_t>(), "line") << " of "
            << a.body["source"].get<std::string>() << "\n";
  return kFine;
}

int show(const Client& client, const SamplesOptions& o) {
  if (o.name.find_first_not_of("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._-") !=
      std::string::npos) {
    std::cerr << "dingle: `" << o.name << "` is no name for a set; letters, digits, dots, dashes\n";
    return kUsage;
  }
  const Answer a = call(client, "GET", "/v1/samples/" + o.name, {});
  if (!a.ok) return kFoundProblems;
  if (client.output == OutputForm::json)
    std::cout << dump(a.body, 2) << "\n";
  else
    for (const Json& line : a.body["lines"]) std::cout << line.get<std::string>() << "\n";
  return kFine;
}

int remove(const Client& client, const SamplesOptions& o) {
  const Answer a = call(client, "POST", "/v1/samples/delete", {}, true, dump(Json{{"names", o.names}}));
  if (!a.ok) return kFoundProblems;
  std::cout << "deleted " << counted(static_cast<std::int64_t>(a.body["deleted"].size()), "set") << "\n";
  return kFine;
}

const CommandRegistration samples_command(
    "samples", "Keeps lines under names, to rehearse with",
    "dingle samples keep odd --source ticket-gate --newest 200", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<SamplesOptions>();
      const Arguments keeping =
          app.command("keep", "Keeps lines: of a file, given ones, or the newest of a source",
                      "dingle samples keep odd --source ticket-gate --line '192.0.2.7 - -' --add");
      keeping.option("NAME", o->name, "Of the set").required();
      keeping.option("FILE", o->file, "The lines (- for standard input), cut and joined as the source would");
      keeping.option("--source", o->source, "Whose lines these are").required();
      keeping.option("--line", o->lines, "A line; may be repeated").repeated();
      keeping.option("--newest", o->newest, "Without lines: so many of the newest that the source read")
          .with_default();
      keeping.flag("--add", o->add, "Add them to the set, instead of putting them in its place");
      const Arguments showing = app.command("show", "Prints a set's lines", "dingle samples show odd");
      showing.option("NAME", o->name, "Of the set").required();
      const Arguments removing = app.command("delete", "Deletes sets", "dingle samples delete odd");
      removing.option("NAME", o->names, "Their names").required();
      return [=](Client& client) {
        return keeping.given()    ? keep(client, *o)
               : showing.given()  ? show(client, *o)
               : removing.given() ? remove(client, *o)
                                  : list(client);
      };
    });

}  // namespace
}  // namespace dingle
