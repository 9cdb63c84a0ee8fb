#include "core/template/set.h"

#include <algorithm>
#include <cstring>
#include <map>

#include "core/same_bytes.h"

namespace dingle {
namespace {

constexpr std::size_t kGram = 4;       // bytes of a required literal that are looked up
constexpr std::size_t kFewOthers = 6;  // so many free beginnings are tried without looking for their literals
constexpr std::uint32_t kBuckets = 4096;
constexpr std::size_t kManyLiterals = 6;  // from so many on they are looked up by several bytes

std::uint32_t bucket_of(const char* p) {
  std::uint32_t v;
  std::memcpy(&v, p, kGram);
  return v * 2654435761u >> 20;
}

// Up to eight bytes as a number.
std::uint64_t key_at(const char* p, std::size_t length) {
  std::uint64_t key = 0;
  std::memcpy(&key, p, length);
  return key;
}
std::size_t slot_of(std::uint64_t key, std::size_t size) {
  return static_cast<std::size_t>(key * 0x9E3779B97F4A7C15ull >> 40) & (size - 1);
}

bool shareable(Element::Op op) {
  return op == Element::Op::literal || op == Element::Op::lexeme || op == Element::Op::text ||
         op == Element::Op::blanks || op == Element::Op::any_case || op == Element::Op::rest;
}

bool same_scan(const TextScan& a, const TextScan& b) {
  return std::memcmp(a.flags, b.flags, sizeof a.flags) == 0 && a.ends == b.ends && a.at_least == b.at_least &&
         a.at_most == b.at_most;
}

// Whether two elements do the same at the same place, and put it into the same slot.
bool same_element(const Program& p, const Element& a, const Program& q, const Element& b) {
  if (a.op != b.op || a.slot != b.slot || !shareable(a.op)) return false;
  switch (a.op) {
    case Element::Op::literal:
    case Element::Op::any_case: return p.literals[a.operand] == q.literals[b.operand];
    case Element::Op::blanks:
    case Element::Op::rest: return true;
    case Element::Op::lexeme: {
      const LexemeUse &x = p.lexemes[a.operand], &y = q.lexemes[b.operand];
      return x.scan == y.scan && !x.settings && !y.settings && x.ranged == y.ranged && x.low == y.low &&
             x.high == y.high;
    }
    case Element::Op::text: return same_scan(p.texts[a.operand], q.texts[b.operand]);
    default: return false;
  }
}

// Copies one element of `from`, with what it refers to; of a literal only [begin, end).
void append_element(Program& to, const Program& from, const Element& e, std::size_t begin = 0,
                    std::size_t end = std::string::npos) {
  Element copy = e;
  copy.next = static_cast<std::uint32_t>(to.elements.size() + 1);
  switch (e.op) {
    case Element::Op::literal:
    case Element::Op::any_case:
      copy.operand = static_cast<std::uint32_t>(to.literals.size());
      to.literals.push_back(from.literals[e.operand].substr(begin, end - begin));
      break;
    case Element::Op::lexeme:
      copy.operand = static_cast<std::uint32_t>(to.lexemes.size());
      to.lexemes.push_back(from.lexemes[e.operand]);
      break;
    case Element::Op::text:
      copy.operand = static_cast<std::uint32_t>(to.texts.size());
      to.texts.push_back(from.texts[e.operand]);
      break;
    default: break;
  }
  to.elements.push_back(copy);
}

}  // namespace

// The state of one line's walk through the tree.
struct TemplateSet::Walk {
  std::string_view line;
  const MatchContext& context;
  NamedRunner runner;
  MatchState state;
  Value* spare;  // where the next match is written; the best one lies in the other half
  int best = -1;
  int expensive = -1;
  std::vector<bool> present = {};  // required literals, once they were looked for
  std::vector<std::pair<const char*, std::uint32_t>>* tried = nullptr;  // for nearest
  std::uint32_t limit() const { return best < 0 ? UINT32_MAX : static_cast<std::uint32_t>(best); }
};

TemplateSet::TemplateSet(std::vector<std::shared_ptr<const Template>> all) : all_(std::move(all)) {
  std::vector<Place> places;
  for (std::uint32_t i = 0; i < all_.size(); ++i) {
    places.push_back({i, 0, 0});
    most_values_ = std::max(most_values_, all_[i]->value_count());
  }
  required_by_hash_.resize(kBuckets);
  if (!places.empty()) build(std::move(places));
}

std::uint32_t TemplateSet::build(std::vector<Place> places) {
  const auto index = static_cast<std::uint32_t>(nodes_.size());
  nodes_.emplace_back();
  Node node;
  node.least = places[0].which;
  auto program = [&](const Place& p) -> const Program& { return all_[p.which]->program_; };
  auto ended = [&](const Place& p) { return p.element >= program(p).elements.size(); };
  if (places.size() == 1) {
    make_leaf(node, places[0]);
    nodes_[index] = std::move(node);
    return index;
  }
  // What all of them begin with.
  auto shared = std::make_unique<Program>();
  std::size_t most_slots = 0;
  for (const Place& p : places) most_slots = std::max(most_slots, all_[p.which]->slots_.size());
  shared->slots = most_slots;
  for (;;) {
    if (std::any_of(places.begin(), places.end(), ended)) break;
    const Place first = places[0];
    const Element& e = program(first).elements[first.element];
    if (e.op == Element::Op::literal) {
      std::string_view common = std::string_view(program(first).literals[e.operand]).substr(first.used);
      for (const Place& p : places) {
        const Element& other = program(p).elements[p.element];
        if (other.op != Element::Op::literal) {
          common = {};
          break;
        }
        const std::string_view text = std::string_view(program(p).literals[other.operand]).substr(p.used);
        std::size_t n = 0;
        while (n < common.size() && n < text.size() && common[n] == text[n]) ++n;
        common = common.substr(0, n);
      }
      if (common.empty()) break;
      append_element(*shared, program(first), e, first.used, first.used + common.size());
      for (Place& p : places) {
        p.used += static_cast<std::uint32_t>(common.size());
        const Element& own = program(p).elements[p.element];
        if (p.used == program(p).literals[own.operand].size()) p.element = own.next, p.used = 0;
      }
      continue;
    }
    if (!std::all_of(places.begin(), places.end(), [&](const Place& p) {
          return p.used == 0 && same_element(program(first), e, program(p), program(p).elements[p.element]);
        }))
      break;
    append_element(*shared, program(first), e);
    for (Place& p : places) p.element = program(p).elements[p.element].next;
  }
  std::uint32_t first_shared = 0;
  if (!shared->elements.empty() && shared->elements[0].op == Element::Op::literal) {
    lead(node, shared->literals[shared->elements[0].operand]);
    first_shared = 1;
  }
  if (shared->elements.size() > first_shared) {
    shared->fuse(first_shared, static_cast<std::uint32_t>(shared->elements.size()));
    node.program = shared.get();
    programs_.push_back(std::move(shared));
  }
  // Where they part.
  std::map<unsigned char, std::vector<Place>> by_byte;
  std::vector<std::vector<Place>> otherwise;
  for (const Place& p : places) {
    if (!ended(p) && program(p).elements[p.element].op == Element::Op::literal) {
      const std::string& text = program(p).literals[program(p).elements[p.element].operand];
      by_byte[static_cast<unsigned char>(text[p.used])].push_back(p);
      continue;
    }
    auto same = std::find_if(otherwise.begin(), otherwise.end(), [&](const std::vector<Place>& group) {
      const Place& q = group[0];
      return !ended(p) && !ended(q) &&
             same_element(program(p), program(p).elements[p.element], program(q),
                          program(q).elements[q.element]);
    });
    if (same == otherwise.end())
      otherwise.push_back({p});
    else
      same->push_back(p);
  }
  std::vector<Place> literals;
  for (const auto& [byte, group] : by_byte) literals.insert(literals.end(), group.begin(), group.end());
  std::size_t key_length = literals.size() < kManyLiterals ? 0 : 8;
  for (const Place& p : literals)
    key_length =
        std::min(key_length, program(p).literals[program(p).elements[p.element].operand].size() - p.used);
  if (key_length >= 2) {
    by_byte.clear();
    std::map<std::uint64_t, std::vector<Place>> by_key;
    for (Place p : literals) {
      const Element& own = program(p).elements[p.element];
      const std::string& text = program(p).literals[own.operand];
      const std::uint64_t key = key_at(text.data() + p.used, key_length);
      p.used += static_cast<std::uint32_t>(key_length);
      if (p.used == text.size()) p.element = own.next, p.used = 0;
      by_key[key].push_back(p);
    }
    for (auto& [key, group] : by_key)  // the templates stay in their order
      std::sort(group.begin(), group.end(), [](const Place& a, const Place& b) { return a.which < b.which; });
    node.key_length = static_cast<std::uint32_t>(key_length);
    std::size_t size = 4;
    while (size < 2 * by_key.size()) size *= 2;
    node.keyed.resize(size);
    for (auto& [key, group] : by_key) {
      std::size_t slot = slot_of(key, size);
      while (node.keyed[slot].used != 0) slot = (slot + 1) & (size - 1);
      node.keyed[slot] = {key, build(std::move(group)), 1};
    }
  }
  if (!by_byte.empty()) node.places = std::make_unique<std::array<std::uint16_t, 256>>();
  for (auto& [byte, group] : by_byte) {
    node.by_byte.push_back(build(std::move(group)));
    (*node.places)[byte] = static_cast<std::uint16_t>(node.by_byte.size());
  }
  const bool many = otherwise.size() > kFewOthers;
  for (auto& group : otherwise) {
    const bool alone = group.size() == 1;
    const Place p = group[0];
    const std::uint32_t child = build(std::move(group));
    node.others.push_back(child);
    if (!many || !alone) continue;
    // The longest literal that the template cannot do without.
    std::string longest;
    const auto& elements = program(p).elements;
    for (std::uint32_t i = p.element; i < elements.size(); i = elements[i].next)
      if (elements[i].op == Element::Op::literal &&
          program(p).literals[elements[i].operand].size() > longest.size())
        longest = program(p).literals[elements[i].operand];
    if (longest.size() < kGram) continue;
    nodes_[child].required = static_cast<std::int32_t>(required_.size());
    required_by_hash_[bucket_of(longest.data())].push_back(static_cast<std::int32_t>(required_.size()));
    required_.push_back(longest);
  }
  nodes_[index] = std::move(node);
  return index;
}

// The rest of one template.
void TemplateSet::make_leaf(Node& node, const Place& place) {
  const Program& program = all_[place.which]->program_;
  node.leaf = static_cast<std::int32_t>(place.which);
  Place rest = place;
  // The slots of what was shared are filled already.
  for (std::uint32_t i = 0; i < place.element; ++i)
    if (program.elements[i].slot >= 0)
      node.clear_from = std::max(node.clear_from, static_cast<std::uint32_t>(program.elements[i].slot) + 1);
  if (rest.element < program.elements.size() && program.elements[rest.element].op == Element::Op::literal) {
    const Element& literal = program.elements[rest.element];
    lead(node, std::string_view(program.literals[literal.operand]).substr(rest.used));
    rest = {place.which, literal.next, 0};
  }
  node.program = ending(rest);
  node.clear_to = node.program->clears ? static_cast<std::uint32_t>(all_[place.which]->slots_.size()) : 0;
  node.open_end = all_[place.which]->open_end_;
}

void TemplateSet::lead(Node& node, std::string_view text) {
  node.lead_at = static_cast<std::uint32_t>(leads_.size());
  node.lead_length = static_cast<std::uint32_t>(text.size());
  leads_ += text;
}

// The program from a place to the template's end; the same one for templates that do the same from there on.
const Program* TemplateSet::ending(const Place& place) {
  const Program& own = all_[place.which]->program_;
  auto same_as_own = [&](const Ending& e) {
    const Program& other = all_[e.place.which]->program_;
    const std::size_t n = own.elements.size() - place.element;
    if (other.slots != own.slots || other.elements.size() - e.place.element != n) return false;
    for (std::size_t i = 0; i < n; ++i)
      if (!same_element(own, own.elements[place.element + i], other, other.elements[e.place.element + i]))
        return false;
    return true;
  };
  if (auto found = std::find_if(endings_.begin(), endings_.end(), same_as_own); found != endings_.end())
    return found->program;
  auto program = std::make_unique<Program>(own);
  program->code.clear();
  program->branch_starts.clear();
  program->fuse(place.element, static_cast<std::uint32_t>(program->elements.size()));
  endings_.push_back({place, program.get()});
  programs_.push_back(std::move(program));
  return programs_.back().get();
}

bool TemplateSet::required_is_there(std::int32_t literal, Walk& walk) const {
  if (walk.present.empty()) {
    walk.present.assign(required_.size(), false);
    const char* const begin = walk.line.data();
    const char* const end = walk.state.end;
    for (const char* p = begin; end - p >= static_cast<std::ptrdiff_t>(kGram); ++p)
      for (std::int32_t i : required_by_hash_[bucket_of(p)])
        if (starts_with(p, end, required_[static_cast<std::size_t>(i)]))
          walk.present[static_cast<std::size_t>(i)] = true;
  }
  return walk.present[static_cast<std::size_t>(literal)];
}

void TemplateSet::visit(const Node& node, const char* at, Walk& walk) const {
  if (node.least >= walk.limit()) return;
  if (node.required >= 0 && walk.tried == nullptr && !required_is_there(node.required, walk)) return;
  MatchState& s = walk.state;
  if (const std::size_t n = node.lead_length; n != 0) {
    if (static_cast<std::size_t>(s.end - at) < n || !same_bytes(at, leads_.data() + node.lead_at, n)) return;
    at += n;
  }
  if (node.leaf >= 0) {
    if (walk.tried) walk.tried->emplace_back(at, static_cast<std::uint32_t>(node.leaf));
    for (std::size_t i = node.clear_from; i < node.clear_to; ++i) s.values[i] = Value();
    s.work = 0;
    s.too_expensive = false;
    const std::size_t found = s.context.found ? s.context.found->size() : 0;
    const char* p = walk.runner.run(*node.program, 0, at, s);
    if (p != nullptr && (node.open_end || p == s.end)) {
      walk.best = node.leaf;
      // What was found so far belongs to templates that lost.
      if (s.context.found && found != 0)
        s.context.found->erase(s.context.found->begin(),
                               s.context.found->begin() + static_cast<std::ptrdiff_t>(found));
      std::swap(s.values, walk.spare);
      std::copy_n(walk.spare, node.clear_from,
                  s.values);  // what is shared may be needed by those still to try
      return;
    }
    if (s.context.found) s.context.found->resize(found);
    if (s.too_expensive) walk.expensive = node.leaf;
    return;
  }
  if (node.program) {
    at = walk.runner.run(*node.program, 0, at, s);
    if (at == nullptr) return;
  }
  std::int32_t literal = -1;
  const char* literal_at = at;
  if (node.key_length != 0 && s.end - at >= static_cast<std::ptrdiff_t>(node.key_length)) {
    const std::uint64_t key = s.end - at >= 8
                                  ? key_at(at, 8) & (~std::uint64_t{0} >> (64 - 8 * node.key_length))
                                  : key_at(at, node.key_length);
    const std::size_t size = node.keyed.size();
    for (std::size_t slot = slot_of(key, size); node.keyed[slot].used != 0; slot = (slot + 1) & (size - 1))
      if (node.keyed[slot].key == key) {
        literal = static_cast<std::int32_t>(node.keyed[slot].child);
        literal_at = at + node.key_length;
        break;
      }
  } else if (node.places && at != s.end) {
    if (const std::uint16_t place = (*node.places)[static_cast<unsigned char>(*at)]; place != 0)
      literal = static_cast<std::int32_t>(node.by_byte[place - 1u]);
  }
  bool done = literal < 0;
  for (std::uint32_t child : node.others) {
    if (!done && nodes_[static_cast<std::size_t>(literal)].least < nodes_[child].least) {
      visit(nodes_[static_cast<std::size_t>(literal)], literal_at, walk);
      done = true;
    }
    visit(nodes_[child], at, walk);
  }
  if (!done) visit(nodes_[static_cast<std::size_t>(literal)], literal_at, walk);
}

int TemplateSet::match(std::string_view line, const MatchContext& context, std::vector<Value>& values,
                       int* expensive) const {
  if (values.size() < 2 * most_values_) values.resize(2 * most_values_);
  if (all_.size() == 1) {
    if (all_[0]->match(line, context, values.data(), expensive)) return 0;
    return -1;
  }
  if (all_.empty()) return -1;
  if (line.data() == nullptr) line = std::string_view("", 0);
  Walk walk{line, context, runner_for(line, context), MatchState(line, context, values.data()),
            values.data() + most_values_};
  visit(nodes_[0], line.data(), walk);
  if (expensive && walk.expensive >= 0) *expensive = walk.expensive;
  // The best match lies in the half that is not written to any more.
  if (walk.best >= 0 && walk.spare != values.data())
    std::copy_n(walk.spare, all_[static_cast<std::size_t>(walk.best)]->slots_.size(), values.data());
  return walk.best;
}

void TemplateSet::nearest(std::string_view line, const MatchContext& context, std::size_t most,
                          std::vector<std::size_t>& result) const {
  result.clear();
  if (all_.size() <= most) {
    for (std::size_t i = 0; i < all_.size(); ++i) result.push_back(i);
    return;
  }
  if (line.data() == nullptr) line = std::string_view("", 0);
  std::vector<Value> values(2 * most_values_);
  std::vector<std::pair<const char*, std::uint32_t>> tried;
  MatchContext own = context;
  own.found = nullptr;
  Walk walk{line, own, runners().back(), MatchState(line, own, values.data()), values.data() + most_values_};
  walk.tried = &tried;
  visit(nodes_[0], line.data(), walk);
  std::stable_sort(tried.begin(), tried.end(),
                   [](const auto& a, const auto& b) { return a.first > b.first; });
  for (const auto& [at, which] : tried)
    if (result.size() < most) result.push_back(which);
  if (result.empty()) result.push_back(0);
}

std::vector<std::pair<std::size_t, std::size_t>> TemplateSet::shadowed() const {
  // Whether every line that `later` matches is matched by `earlier`: element by element, so far as that is
  // sure.
  auto covers = [](const Template& earlier, const Template& later) {
    const Program &p = earlier.program_, &q = later.program_;
    std::uint32_t i = 0, k = 0;
    for (;;) {
      if (i >= p.elements.size()) return earlier.open_end_ || (k >= q.elements.size() && !later.open_end_);
      const Element& a = p.elements[i];
      if (a.op == Element::Op::rest) return true;
      if (k >= q.elements.size()) return false;
      const Element& b = q.elements[k];
      Element same = b;
      same.slot = a.slot;  // where the value goes does not matter here
      if (!same_element(p, a, q, same)) {
        // A text of more signs that ends before the same literal.
        const bool texts = a.op == Element::Op::text && b.op == Element::Op::text;
        if (!texts || a.next >= p.elements.size() || b.next >= q.elements.size()) return false;
        const TextScan &x = p.texts[a.operand], &y = q.texts[b.operand];
        const Element &c = p.elements[a.next], &d = q.elements[b.next];
        if (c.op != Element::Op::literal || d.op != Element::Op::literal ||
            p.literals[c.operand] != q.literals[d.operand] || !x.ends_by_class() || !y.ends_by_class() ||
            x.at_least > y.at_least || x.at_most < y.at_most)
          return false;
        const auto first = static_cast<unsigned char>(p.literals[c.operand][0]);
        if (x.flags[first] & 1) return false;
        for (unsigned byte = 0; byte < 256; ++byte)
          if ((y.flags[byte] & 1) && !(x.flags[byte] & 1)) return false;
      }
      i = a.next;
      k = b.next;
    }
  };
  std::vector<std::pair<std::size_t, std::size_t>> pairs;
  for (std::size_t later = 1; later < all_.size(); ++later)
    for (std::size_t earlier = 0; earlier < later; ++earlier)
      if (covers(*all_[earlier], *all_[later])) {
        pairs.emplace_back(later, earlier);
        break;
      }
  return pairs;
}

}  // namespace dingle
