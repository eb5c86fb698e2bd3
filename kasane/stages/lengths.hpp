// What the lights of a stack saturate, of which length each is, and what becomes of that.
#pragma once

#include <kasane/integration/length_match.hpp>
#include <kasane/stages/stack_account.hpp>

#include <map>
#include <string>
#include <vector>

namespace kasane {

/// Raw ADU from which on a pixel does not tell how much light it got: nine tenths of where its camera is full, as the
/// lights themselves show it (PileUp), or as it is known. Sensors bend before they are full.
class UsableLevels {
public:
    UsableLevels(const Session& session, const std::vector<std::vector<Light>>& lights);
    /// 0: not known.
    double of(const Exposure& light) const;

private:
    const Session& session_;
    std::map<std::string, double> full_; ///< by camera, where lights show it
};

/// Where a light has many saturated pixels, on the grid that it is measured on.
std::vector<Region> burnt_regions(const ExposureMeasures& measures);

/// Of which length each frame is: lights of one camera setting and exposure time (to 10 %) are of one, by the
/// brightness at which they are full in the middle of them. When the levels are settled.
void settle_lengths(Assembly& assembly);

/// The lengths of a stack, and what is burnt in all of them; warns of that where there are several.
void describe_lengths(const Assembly& assembly, const MasterLight& master, StackReport& report);

/// "240 s", "1 to 2 s", "unknown exposure".
std::string length_text(const LengthReport& length);

} // namespace kasane
