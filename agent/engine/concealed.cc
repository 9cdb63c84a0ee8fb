#include "agent/engine/concealed.h"

#include <unordered_map>

#include "agent/sealing.h"
#include "agent/secret.h"
#include "core/condition/words.h"
#include "core/draft/tokens.h"
#include "core/names.h"
#include "spool/events.h"

namespace dingle {
namespace {

constexpr std::string_view kSealed("\0\xff", 2);  // no version of events in a record
constexpr std::size_t kShortestWord = 4;
constexpr std::string_view kInstead = "***";

template <class Take>
void each_long_word(std::string_view text, Take&& take) {
  for_each_word(text, [&](std::string_view word) {
    if (word.size() >= kShortestWord) take(word);
  });
}

}  // namespace

void conceal(Letter& letter, const SpooledEvent& event, const Sealing* holder) {
  SpooledEvent bare = event;
  const std::string shape = bare_shape_of(event.body, event.observed);
  const std::string sealed = holder ? holder->seal(event.body) : "";
  std::vector<Field> fields;
  for (const Field& f : event.fields)
    if (field_name(f.name).starts_with("dingle.")) fields.push_back(f);
  if (!sealed.empty()) fields.push_back({names::held, Value::text(sealed)});
  bare.body = shape;
  bare.fields = fields;
  append_event_json(bare, letter.event);
  const std::string whole = sealed.empty() ? "" : holder->seal(encode_event(event, letter.destination));
  letter.record = whole.empty() ? encode_event(bare, letter.destination) : std::string(kSealed).append(whole);
}

bool is_sealed(const Letter& letter) { return letter.record.starts_with(kSealed); }

Result<std::string> opened_record(const Letter& letter, const std::string& key) {
  if (!is_sealed(letter)) return letter.record;
  const std::string which = "letter " + std::to_string(letter.id) + " is sealed";
  if (key.empty())
    return Problem{which + ", and there is no key for what is held",
                   "server: { held: { key: { file: PATH } } } in the configuration", 0, 0};
  const auto secret = read_secret_at(key);
  if (!secret) return Problem{which + ": " + secret.problem().message, secret.problem().hint, 0, 0};
  auto record = open_sealed(std::string_view(letter.record).substr(kSealed.size()), *secret);
  if (!record) return Problem{which + " with another key than that of now", "", 0, 0};
  return std::move(*record);
}

void hide_content(std::span<const DeliveryEvent> events, Delivery& delivery) {
  std::unordered_map<std::string_view, bool> words;  // of the reasons; whether an event has it
  for (const Outcome& o : delivery.outcomes)
    if (o.form == Outcome::Form::refused ||
        (o.form == Outcome::Form::retry && (delivery.judged || delivery.separable)))
      each_long_word(o.reason, [&](std::string_view word) { words.emplace(word, false); });
  if (words.empty()) return;
  bool any = false;
  const auto look = [&](std::string_view text) {
    each_long_word(text, [&](std::string_view word) {
      if (const auto it = words.find(word); it != words.end()) any = it->second = true;
    });
  };
  for (const DeliveryEvent& e : events) {
    if (!e.event.hidden_elsewhere) continue;
    look(e.event.body);
    for (const Field& f : e.event.fields)
      if (!field_name(f.name).starts_with("dingle."))
        f.value.is_textual() ? look(f.value.as_text()) : look(f.value.to_string());
  }
  if (!any) return;
  std::vector<std::string> told;
  for (const Outcome& o : delivery.outcomes) {
    std::string& reason = told.emplace_back();
    std::size_t done = 0;
    each_long_word(o.reason, [&](std::string_view word) {
      const auto it = words.find(word);
      if (it == words.end() || !it->second) return;
      const auto at = static_cast<std::size_t>(word.data() - o.reason.data());
      reason.append(o.reason, done, at - done).append(kInstead);
      done = at + word.size();
    });
    reason.append(o.reason, done);
  }
  words.clear();
  for (std::size_t i = 0; i < told.size(); ++i) delivery.outcomes[i].reason = std::move(told[i]);
}

}  // namespace dingle
