// How a combination stands in the account of an image's making.
#pragma once

#include <kasane/base/provenance.hpp>
#include <kasane/combination/choice.hpp>

namespace kasane {

/// The step "combine": the reason in words, and all that decides the combination by name.
Provenance::Step combine_step(const CombinationChoice& choice);

} // namespace kasane
