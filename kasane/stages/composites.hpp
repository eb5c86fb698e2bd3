// Images made of several master lights of a target: all filters together, a luminance. After stage 6.
#pragma once

#include <kasane/integration/composite_kind.hpp>
#include <kasane/ledger/basis.hpp>
#include <kasane/ledger/records.hpp>
#include <kasane/stages/session.hpp>

#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace kasane {

/// One that the recipe asks for.
struct CompositePlan {
    CompositeKind kind = CompositeKind::all_filters;
    std::string name, file;                         ///< relative to the output folder
    std::optional<Basis> basis;                     ///< nothing where it cannot be made
    std::vector<std::pair<std::size_t, int>> parts; ///< of the stacks, by index, and their planes
    std::optional<CompositeReport> done;            ///< it is there, made of just that
    std::string why_not;                            ///< it cannot be made
};

/// Of the master lights of one group, as they are; none where nothing is asked for.
std::vector<CompositePlan> plan_composites(const Session& session, const std::vector<StackReport>& stacks);

/// Those that [integration] also asks for, of the master lights that were made of one group, which lie on one canvas;
/// what is there already is kept. All filters: each scaled to the same noise. Luminance: of L, R, G and B, or of the
/// three colours of a mosaic, scaled to the same flux of stars, weighed by the inverse variance. Their reports are
/// added to the session's, or a note why one cannot be made. Throws OutputError.
void make_composites(Session& session, const std::vector<StackReport>& stacks);

} // namespace kasane
