// Defective pixels as the ledger keeps them.
#pragma once

#include <kasane/calibration/defects.hpp>
#include <kasane/ledger/codec.hpp>

#include <optional>
#include <string>
#include <utility>

namespace kasane {

void encode(Writer& w, const DefectList& list);
/// False for places that cannot be. Throws DataError where the bytes end too soon.
bool decode(Reader& r, DefectList& list);

/// A sensor's defects and how many of each kind they are.
std::string encode_defects(const DefectList& list, const DefectCounts& counts);
/// Nothing where the bytes are of another version, or cannot be.
std::optional<std::pair<DefectList, DefectCounts>> decode_defects(const std::string& bytes);

} // namespace kasane
