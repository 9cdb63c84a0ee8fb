// replace: puts other text in the place of some.
#include <map>

#include "core/condition/functions.h"
#include "core/nearest.h"
#include "core/steps/pieces.h"
#include "core/steps/step.h"
#include "core/steps/word_border.h"
#include "core/steps/written_value.h"
#include "core/template/syntax.h"
#include "core/template/template.h"

namespace dingle {
namespace {

const ComponentSpec kReplaceSpec{
    "replace",
    "Puts other text in the place of what one of these finds in a text: `text` literally, `regex` (PCRE2), "
    "`template` (a "
    "small one that begins with a literal text). In `with`, `{name}` stands for what a named group or a "
    "pattern took. A "
    "`table` gives the whole value another one. Where nothing is found the field stays as it is, and that is "
    "counted as "
    "missed. Costs a search; a regex some 70 ns a match.",
    "replace: { field: url.path, regex: '/ticket/(?<kind>[a-z]+)/\\d+', with: '/ticket/{kind}/*' }",
    {{.name = "field", .type = OptionType::field, .fallback = "body", .text = "The text that is changed."},
     {.name = "text", .type = OptionType::text, .text = "What is replaced, literally."},
     {.name = "regex", .type = OptionType::text, .text = "What is replaced, as a regular expression."},
     {.name = "template", .type = OptionType::template_text, .text = "What is replaced, as a template."},
     {.name = "with",
      .type = OptionType::text,
      .text = "What comes in its place; nothing if it is not given."},
     {.name = "occurrence",
      .type = OptionType::choice,
      .fallback = "all",
      .text = "Which of several are replaced.",
      .choices = {"all", "first", "last"}},
     {.name = "table",
      .type = OptionType::table,
      .text = "Values, and what each becomes. Numbers, true and false without quotes keep their type."},
     {.name = "otherwise", .type = OptionType::text, .text = "What a value becomes that the table lacks."}}};

constexpr std::size_t kMostReplaced =
    1000;  // places at which a template is tried, and occurrences that are replaced

// Where something stands, and the texts that it took.
struct Found {
  std::size_t from = 0, to = 0;
  std::vector<std::string_view> took;
};

class Finding {
 public:
  virtual ~Finding() = default;
  enum class Outcome { found, none, too_expensive };
  class Search {
   public:
    virtual ~Search() = default;
    // The first one that begins at `at` or behind it.
    virtual Outcome next(std::string_view text, std::size_t at, Found& found) = 0;
  };
  virtual std::unique_ptr<Search> search(Batch& batch) const = 0;
  std::vector<std::string> names;  // of what it takes
};

class FindText final : public Finding {
 public:
  explicit FindText(std::string text) : text_(std::move(text)) {}
  std::unique_ptr<Search> search(Batch&) const override {
    class One final : public Search {
     public:
      explicit One(const std::string& text) : text_(text) {}
      Outcome next(std::string_view text, std::size_t at, Found& found) override {
        found.from = text.find(text_, at);
        found.to = found.from + text_.size();
        return found.from == std::string_view::npos ? Outcome::none : Outcome::found;
      }

     private:
      const std::string& text_;
    };
    return std::make_unique<One>(text_);
  }

 private:
  std::string text_;
};

class FindRegex final : public Finding {
 public:
  explicit FindRegex(Regex regex) : regex_(std::move(regex)) {
    for (auto& [name, number] : regex_.groups()) {
      names.push_back(name);
      numbers_.push_back(number);
    }
  }
  std::unique_ptr<Search> search(Batch&) const override {
    class One final : public Search {
     public:
      One(const Regex& regex, const std::vector<std::size_t>& numbers) : finder_(regex), numbers_(numbers) {}
      Outcome next(std::string_view text, std::size_t at, Found& found) override {
        if (at > text.size()) return Outcome::none;
        const Regex::Outcome outcome = finder_.find(text, at);
        if (outcome != Regex::Outcome::match)
          return outcome == Regex::Outcome::no_match ? Outcome::none : Outcome::too_expensive;
        std::tie(found.from, found.to) = finder_.place();
        found.took.clear();
        for (const std::size_t number : numbers_) {
          const auto [from, to] = finder_.place(number);
          found.took.push_back(from > to || from == std::string_view::npos ? std::string_view()
                                                                           : text.substr(from, to - from));
        }
        return Outcome::found;
      }

     private:
      Regex::Finder finder_;
      const std::vector<std::size_t>& numbers_;
    };
    return std::make_unique<One>(regex_, numbers_);
  }

 private:
  Regex regex_;
  std::vector<std::size_t> numbers_;
};

class FindTemplate final : public Finding {
 public:
  FindTemplate(std::shared_ptr<const Template> made, std::string begins)
      : made_(std::move(made)), begins_(std::move(begins)) {
    for (const Slot& slot : made_->slots()) names.emplace_back(field_name(slot.field));
  }
  std::unique_ptr<Search> search(Batch& batch) const override {
    class One final : public Search {
     public:
      One(const Template& made, const std::string& begins, Batch& batch)
          : made_(made), begins_(begins), batch_(batch), values_(made.value_count()) {}
      Outcome next(std::string_view text, std::size_t at, Found& found) override {
        const MatchContext context{&batch_.arena, 0, nullptr, batch_.readable_behind(text)};
        for (std::size_t tries = 0;; ++tries, ++at) {
          at = text.find(begins_, at);
          if (at == std::string_view::npos) return Outcome::none;
          if (tries == kMostReplaced) return Outcome::too_expensive;
          if (within_word(text, at)) continue;
          const std::size_t length = made_.matched(text.substr(at), context, values_.data());
          if (length == std::string_view::npos) continue;
          found.from = at;
          found.to = at + length;
          found.took.clear();
          for (std::size_t s = 0; s < made_.slots().size(); ++s)
            found.took.push_back(values_[s].is_textual() ? values_[s].as_text()
                                                         : batch_.arena.copy(values_[s].to_string()));
          return Outcome::found;
        }
      }

     private:
      const Template& made_;
      const std::string& begins_;
      Batch& batch_;
      std::vector<Value> values_;
    };
    return std::make_unique<One>(*made_, begins_, batch);
  }

 private:
  std::shared_ptr<const Template> made_;
  std::string begins_;
};

class Replace final : public Step {
 public:
  struct Piece {
    std::string literal;
    std::size_t taken = std::string::npos;  // behind the literal: of what is found
  };
  FieldId field = names::body;
  std::unique_ptr<Finding> finding;
  std::vector<Piece> with;
  enum class Which { all, first, last } which = Which::all;
  std::map<std::string, Value, std::less<>> table;  // texts point into `options`
  Value otherwise;
  Node options;  // the table as it was written

  void follow(StepFields& fields) const override { fields.reads("field", field_name(field)); }
  void run(Batch& batch, StepTally& tally) const override {
    std::unique_ptr<Finding::Search> search = finding ? finding->search(batch) : nullptr;
    std::string made;
    each(batch, tally, [&](Event& event) {
      ++tally.out;
      const Value input = batch.get(event, field);
      Value value;
      if (finding == nullptr) {
        value = looked_up(input);
      } else if (input.is_textual() && changed(*search, input.as_text(), made, tally)) {
        value = Value::text(batch.arena.copy(made));
      }
      if (value.absent())
        ++tally.missed;
      else if (field == names::body)
        event.body = value.is_textual() ? value.as_text() : batch.arena.copy(value.to_string());
      else
        event.set(batch.arena, field, value);
    });
  }

 private:
  Value looked_up(const Value& input) const {
    if (input.absent()) return {};
    const auto known = input.is_textual() ? table.find(input.as_text()) : table.find(input.to_string());
    return known == table.end() ? otherwise : known->second;
  }
  bool changed(Finding::Search& search, std::string_view text, std::string& made, StepTally& tally) const {
    made.clear();
    std::size_t done = 0, at = 0;
    Found found, last;
    bool any = false;
    for (std::size_t n = 0; at <= text.size(); ++n) {
      const Finding::Outcome outcome =
          n == kMostReplaced ? Finding::Outcome::too_expensive : search.next(text, at, found);
      if (outcome == Finding::Outcome::too_expensive) ++tally.gave_up;
      if (outcome != Finding::Outcome::found) break;
      if (made.size() > kLongestMadeText) {  // what it has grown by stays; the rest is as it was
        ++tally.gave_up;
        break;
      }
      any = true;
      at = found.to > found.from ? found.to : found.to + 1;
      if (which == Which::last) {
        last = found;
        continue;
      }
      put(text, found, done, made);
      if (which == Which::first) break;
    }
    if (!any) return false;
    if (which == Which::last) put(text, last, done, made);
    made += text.substr(done);
    return true;
  }
  void put(std::string_view text, const Found& found, std::size_t& done, std::string& made) const {
    made += text.substr(done, found.from - done);
    for (const Piece& piece : with) {
      made += piece.literal;
      if (piece.taken != std::string::npos) made += found.took[piece.taken];
    }
    done = found.to;
  }
};

std::unique_ptr<Finding> finding_of(const StepMaking& m) {
  if (m.options.given("text")) {
    if (!m.options.text("text").empty()) return std::make_unique<FindText>(m.options.text("text"));
    m.findings.error(m.options.where("text"), "the text that is replaced is empty", "");
    return nullptr;
  }
  if (m.options.given("regex")) {
    auto regex = Regex::compile(m.options.text("regex"), Regex::Where::anywhere);
    if (regex) return std::make_unique<FindRegex>(std::move(*regex));
    m.findings.error_within(m.options.where("regex"), regex.problem());
    return nullptr;
  }
  const Node at = m.options.where("template");
  std::vector<Problem> problems;
  const std::string& text = m.options.text("template");
  const std::vector<Part> parts = parse_template(text, problems);
  if (problems.empty() && (parts.empty() || parts.front().form != Part::Form::literal))
    problems.push_back(
        {"the template of `replace` begins with a literal text", "for instance: 'user={user:word}'", 0, 1});
  if (problems.empty() && parts.back().form == Part::Form::capture && parts.back().text == "text")
    problems.push_back({"nothing says where this value ends",
                        "give it a pattern, as in {name:word}, or add the text behind it",
                        parts.back().offset, parts.back().length});
  std::shared_ptr<const Template> made;
  if (problems.empty()) made = Template::compile(text, m.patterns, {.open_end = true}, problems);
  for (const Problem& p : problems) m.findings.error_within(at, p);
  if (!problems.empty()) return nullptr;
  return std::make_unique<FindTemplate>(std::move(made), parts.front().text);
}

bool read_with(const StepMaking& m, Replace& step) {
  auto pieces = parse_pieces(m.options.text("with"));
  if (!pieces) {
    m.findings.error_within(m.options.where("with"), pieces.problem());
    return false;
  }
  for (const TextPiece& piece : *pieces) {
    const auto& names = step.finding->names;
    const auto known = std::find(names.begin(), names.end(), piece.name);
    if (!piece.name.empty() && known == names.end()) {
      const std::string near = did_you_mean(piece.name, names);
      m.findings.error(m.options.where("with"), "nothing takes a text called `" + piece.name + "`",
                       !near.empty()   ? near
                       : names.empty() ? "name one: (?<" + piece.name + ">...) in the regex, or {" +
                                             piece.name + ":word} in the template"
                                       : one_of(names));
      return false;
    }
    step.with.push_back({piece.literal, piece.name.empty()
                                            ? std::string::npos
                                            : static_cast<std::size_t>(known - names.begin())});
  }
  return true;
}

std::unique_ptr<Step> make_replace(const StepMaking& m) {
  auto step = std::make_unique<Replace>();
  const std::string& field = m.options.text("field");
  if (!writable_field(m, m.options.where("field"), field)) return nullptr;
  step->field = field_id(field);
  int given = 0;
  for (const char* option : {"text", "regex", "template", "table"}) given += m.options.given(option);
  if (given != 1) {
    m.findings.error(m.options.place(), 1,
                     given == 0 ? "`replace` says nothing of what it replaces"
                                : "`replace` says in several ways what it replaces",
                     "one of `text`, `regex`, `template` and `table`");
    return nullptr;
  }
  if (m.options.given("table")) {
    step->options = m.options.tree("table");
    for (const auto& entry : step->options.entries)
      step->table.emplace(entry.key, written_value(entry.value));
    if (const Node* otherwise = m.options.node("otherwise")) {
      step->options.items.push_back(*otherwise);
      step->otherwise = written_value(step->options.items.back());
    }
    return step;
  }
  const std::string& which = m.options.text("occurrence");
  step->which = which == "first"  ? Replace::Which::first
                : which == "last" ? Replace::Which::last
                                  : Replace::Which::all;
  step->finding = finding_of(m);
  if (step->finding == nullptr || !read_with(m, *step)) return nullptr;
  return step;
}

const StepRegistration replace_step({kReplaceSpec, make_replace});

}  // namespace
}  // namespace dingle
