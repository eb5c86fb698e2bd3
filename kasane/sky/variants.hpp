// The demo's variants: small projects true to what people bring.
#pragma once

#include <kasane/sky/scenario.hpp>

#include <string>
#include <vector>

namespace kasane::sky {

struct Variant {
    std::string name;
    std::string story; ///< in one line
    Scenario (*make)();
};

/// "nights" (the demo itself), "colour", "dslr", "silent", "tripod", "sparse-pixels", "mistakes".
const std::vector<Variant>& demo_variants();
/// Throws UsageError if there is none of this name.
const Variant& demo_variant(const std::string& name);

} // namespace kasane::sky
