// Measures as the ledger keeps them.
#pragma once

#include <kasane/grading/measures.hpp>

#include <memory>
#include <string>

namespace kasane {

std::string encode_measures(const ExposureMeasures& measures);
/// Nothing if the bytes are of another version or damaged.
std::shared_ptr<const ExposureMeasures> decode_measures(const std::string& bytes);

} // namespace kasane
