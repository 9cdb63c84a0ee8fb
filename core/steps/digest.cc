// digest: hides values so that equal ones can still be told.
#include "core/steps/hiding.h"

namespace dingle {
namespace {

const ComponentSpec kDigestSpec{
    "digest",
    "Hides values as `mask` does, but puts a keyed digest of each in its place (HMAC with SHA-256): the same "
    "value has the same "
    "digest, so that events can still be counted and joined by it, and nobody without the key can find the "
    "value by trying. "
    "Costs about a microsecond a value.",
    "digest: { fields: [user, card], key: { file: /etc/dingle/digest.key } }",
    hiding_options({{.name = "key", .type = OptionType::secret, .text = "The key.", .required = true},
                    {.name = "length",
                     .type = OptionType::integer,
                     .fallback = "16",
                     .text = "How many hexadecimal digits of it stay; of 16, two of a hundred million values "
                             "are the same by "
                             "chance once in four thousand times.",
                     .least = 8,
                     .most = 64}})};

class Digest final : public HidingStep {
 public:
  std::shared_ptr<const Sealing> sealing;
  std::size_t length = 16;
  std::shared_ptr<const Sealing> keyed() const override { return sealing; }

 protected:
  std::string instead(std::string_view text, const Finder*) const override {
    const std::string digest = sealing == nullptr ? "" : sealing->digest(text);
    return digest.empty() ? "***" : digest.substr(0, length);
  }
};

std::unique_ptr<Step> make_digest(const StepMaking& m) {
  auto step = std::make_unique<Digest>();
  if (!read_hiding(m, *step)) return nullptr;
  step->length = static_cast<std::size_t>(m.options.number("length"));
  if (m.sealing) step->sealing = m.sealing(m.options.text("key"));
  return step;
}

const StepRegistration digest_step({kDigestSpec, make_digest});

}  // namespace
}  // namespace dingle
