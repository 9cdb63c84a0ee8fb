#include "core/draft/picks.h"

#include <algorithm>
#include <map>

#include "core/ascii.h"
#include "core/draft/tokens.h"
#include "core/template/syntax.h"

namespace dingle {
namespace {

using Form = Token::Form;

constexpr std::size_t kMostPicks = 16, kLongestContext = 40, kMostOfText = 32, kMostIdsOfText = 8;

// What begins a small template, and of what form the value behind it is.
struct Place {
  std::string before;
  std::string pattern;
  bool behind_word = false;  // a word that differs stands between
  friend auto operator<=>(const Place&, const Place&) = default;
};

struct Seen {
  std::size_t texts = 0, with_port = 0;
  std::string port;          // what stands between address and port: ":", "#", " port "
  bool before_sign = false;  // one stands right behind it at times
  Token example;
  std::map<Place, std::size_t> values_beside;  // ids at other places in the same texts, with another value
};

bool is_word(const Token& t) { return t.kind == Form::word || t.kind == Form::dotted; }
bool is_id(Form kind) {
  return kind == Form::ip || kind == Form::email || kind == Form::mac || kind == Form::uuid ||
         kind == Form::trace_id || kind == Form::span_id;
}

// The text that stands before a value and tells that it comes: "from ", "rhost=", "[", "client: ".
std::string before(const std::vector<Token>& tokens, std::size_t value) {
  std::size_t from = value;
  const auto joined = [&] {
    std::string text;
    for (std::size_t i = from; i < value; ++i) text += tokens[i].text;
    return text.size() <= kLongestContext ? text : std::string();
  };
  if (from != 0 && tokens[from - 1].kind == Form::blank) --from;
  const bool spaced = from != value;
  while (from != 0 && tokens[from - 1].kind == Form::sign) --from;
  const std::string signs = joined();
  const bool keyed = signs.starts_with('=') || signs.starts_with(':');
  const bool bare = from == value - (spaced ? 1 : 0);  // no sign between
  if (from != 0 && is_word(tokens[from - 1]) && ((bare && spaced) || keyed)) {
    const std::string_view word = tokens[from - 1].text;
    const bool glued =
        from < 2 || tokens[from - 2].kind == Form::blank || tokens[from - 2].kind == Form::sign;
    if (glued && std::none_of(word.begin(), word.end(), is_digit)) --from;
  }
  const std::string text = joined();
  return text.find_first_not_of(" \t") == std::string::npos ? std::string() : text;
}

// The value of a pair that begins at `at`, and where it ends: one token before a blank, the end, or a sign that parts values.
bool is_whole_value(const std::vector<Token>& tokens, std::size_t at) {
  if (at >= tokens.size() || tokens[at].kind == Form::blank || tokens[at].kind == Form::sign) return false;
  if (at + 1 == tokens.size() || tokens[at + 1].kind == Form::blank || tokens[at].kind == Form::quoted)
    return true;
  return tokens[at + 1].kind == Form::sign &&
         std::string_view(",;)]>").find(tokens[at + 1].text[0]) != std::string_view::npos;
}

// The word before an address may be a value itself: "user anna 192.0.2.7". Which words stand between the one before it and
// addresses; then the template begins with that one.
using Between = std::map<std::string, std::map<std::string, std::size_t>>;

std::string farther_before(const std::vector<Token>& tokens, std::size_t value) {
  if (value < 4 || tokens[value - 1].kind != Form::blank || !is_word(tokens[value - 2]) ||
      tokens[value - 3].kind != Form::blank || tokens[value - 4].kind != Form::word)
    return "";
  const std::string_view word = tokens[value - 4].text;
  return std::none_of(word.begin(), word.end(), is_digit) ? std::string(word) + " " : "";
}

void look_between(const std::vector<Token>& tokens, Between& between) {
  for (std::size_t i = 4; i < tokens.size(); ++i)
    if (tokens[i].kind == Form::ip)
      if (const std::string far = farther_before(tokens, i); !far.empty())
        ++between[far][std::string(tokens[i - 2].text)];
}

bool varies(const Between& between, const std::string& far) {
  const auto found = between.find(far);
  return found != between.end() && found->second.size() > 2;
}

void look_at(const std::vector<Token>& tokens, const Between& between, std::map<Place, Seen>& all) {
  std::map<Place, std::string_view> here, ids;
  for (std::size_t i = 0; i < tokens.size() && here.size() < kMostOfText; ++i) {
    const Token& t = tokens[i];
    const bool pair =
        i >= 2 && tokens[i - 1].text == "=" && is_word(tokens[i - 2]) && is_whole_value(tokens, i);
    const bool quoted =
        t.kind == Form::quoted && i >= 2 && tokens[i - 1].kind == Form::blank && is_word(tokens[i - 2]);
    if (!is_id(t.kind) && !pair && !quoted) continue;
    Place place{before(tokens, i), pattern_of(t)};
    if (t.kind == Form::ip)
      if (const std::string far = farther_before(tokens, i); varies(between, far)) place = {far, "ip", true};
    if (place.before.empty() || place.pattern.empty() || !here.emplace(place, t.text).second) continue;
    if (is_id(t.kind) && ids.size() < kMostIdsOfText) ids.emplace(place, t.text);
    Seen& seen = all[place];
    ++seen.texts;
    if (seen.texts == 1) seen.example = t;
    seen.before_sign |= i + 1 < tokens.size() && tokens[i + 1].kind == Form::sign;
    if (t.kind != Form::ip) continue;
    std::string port;
    std::size_t k = i + 1;
    while (k < tokens.size() && k < i + 4 && tokens[k].kind != Form::integer) port += tokens[k++].text;
    if ((port == ":" || port == "#" || port == " port ") && k < tokens.size() &&
        tokens[k].kind == Form::integer) {
      ++seen.with_port;
      seen.port = port;
    }
  }
  for (const auto& [place, value] : ids)
    for (const auto& [other, other_value] : ids)
      if (value != other_value) ++all[place].values_beside[other];
}

bool is_address(const Place& p) { return p.pattern == "ip"; }

// Values of one key may be of several forms: the widest of them takes all.
void join_forms(std::map<Place, Seen>& all) {
  std::map<std::string, std::vector<Place>> by_key;
  for (const auto& [place, seen] : all)
    if (place.before.ends_with('=')) by_key[place.before].push_back(place);
  for (const auto& [key, places] : by_key) {
    if (places.size() < 2) continue;
    if (std::any_of(places.begin(), places.end(), is_address))
      continue;  // worth a field even where a name stands at times
    const bool numbers = std::all_of(places.begin(), places.end(), [](const Place& p) {
      return p.pattern == "int" || p.pattern == "decimal";
    });
    Seen sum;
    for (const Place& p : places) {
      const Seen& seen = all[p];
      if (sum.texts == 0) sum.example = seen.example;
      sum.texts += seen.texts;
      sum.before_sign |= seen.before_sign;
      all.erase(p);
    }
    if (!numbers) sum.example.kind = Form::word;
    all[{key, numbers ? "decimal" : sum.before_sign ? "/[^\\s,;)]+/" : "unspaced", false}] = std::move(sum);
  }
}

std::string name_of(const Place& place, const Seen& seen) {
  DraftNames alone;  // what it is called where nothing is taken
  if (seen.example.kind != Form::ip) return alone.name_for(seen.example, place.before, "");
  static constexpr std::string_view kServers[] = {"to ",       "at ",        "on ",      "server ",  "local ",
                                                  "upstream ", "listening ", "backend ", "listener "};
  if (std::find(std::begin(kServers), std::end(kServers), place.before) != std::end(kServers))
    return "server.address";
  return alone.name_for(seen.example, place.before, "");
}

// Names for places. Two may share one where they do not stand in one text with different values.
class PickNames {
 public:
  explicit PickNames(DraftNames taken) : names_(std::move(taken)) {}

  std::string of(const Place& place, const Seen& seen) {
    const std::string alone = name_of(place, seen);
    std::string name;
    for (const auto& [shared, places] : by_alone_[alone])
      if (name.empty() && std::none_of(places.begin(), places.end(), [&](const Place* other) {
            const auto beside = seen.values_beside.find(*other);
            return beside != seen.values_beside.end() && beside->second * 50 >= seen.texts;
          }))
        name = shared;
    if (name.empty()) name = names_.unique(alone);
    by_alone_[alone][name].push_back(&place);
    return name;
  }

 private:
  DraftNames names_;
  std::map<std::string, std::map<std::string, std::vector<const Place*>>> by_alone_;
};

std::string template_of(const Place& place, const Seen& seen, const std::string& name) {
  std::string text = escaped_literal(place.before) + (place.behind_word ? "{:unspaced} " : "") + "{" + name +
                     (place.pattern == "json" ? "." : "") + ":" + place.pattern + "}";
  if (seen.with_port * 10 >= seen.texts && seen.with_port != 0 && name.ends_with(".address")) {
    const std::string port = escaped_literal(seen.port) + "{" + name.substr(0, name.size() - 7) + "port:int}";
    text += seen.with_port == seen.texts ? port : "{[}" + port + "{]}";
  }
  return text;
}

}  // namespace

std::vector<DraftTemplate> draft_picks(const std::vector<std::string_view>& texts, std::int64_t now,
                                       DraftNames names) {
  std::map<Place, Seen> all;
  std::vector<std::vector<Token>> tokens;
  Between between;
  for (std::string_view text : texts)
    look_between(tokens.emplace_back(tokens_of(text.substr(0, 2000), now)), between);
  for (const auto& of_text : tokens) look_at(of_text, between, all);
  join_forms(all);
  const std::size_t least = std::max<std::size_t>(2, texts.size() / 500);
  std::vector<std::pair<Place, Seen>> found;
  for (auto& [place, seen] : all)
    if (seen.texts >= least) found.emplace_back(place, std::move(seen));
  std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) {
    const bool address_a = a.second.example.kind == Form::ip, address_b = b.second.example.kind == Form::ip;
    return address_a != address_b ? address_a : a.second.texts > b.second.texts;
  });
  if (found.size() > kMostPicks) found.resize(kMostPicks);
  std::vector<DraftTemplate> picks;
  PickNames named(std::move(names));
  for (const auto& [place, seen] : found)
    picks.push_back({template_of(place, seen, named.of(place, seen)), seen.texts, "", "", 0});
  return picks;
}

}  // namespace dingle
