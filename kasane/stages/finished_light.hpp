// A master light that is made: what its stars tell, its files, and what is remembered of it. Part of stage 6.
#pragma once

#include <kasane/stages/comet_masters.hpp>
#include <kasane/stages/master_light.hpp>
#include <kasane/stages/session.hpp>

#include <optional>
#include <string>
#include <vector>

namespace kasane {

struct FinishedLight {
    StackReport report;
    std::string key, basis; ///< of what it is made of (Basis)
    MasterLight master;
    std::vector<const Exposure*> exposures; ///< the frames combined, in order
    std::optional<WorldCoordinates> world;
    Canvas canvas;
    double finer = 1; ///< as write_master_light has it
    LightPictures pictures;
    std::optional<Raster<std::uint8_t>> phases; ///< of a drizzled one
    std::optional<CometSolution> comet;
    std::optional<CometMasters> comet_masters;
    /// The lights of the stack, and where much of each was rejected; nothing of those that were not used.
    std::vector<std::pair<const Exposure*, std::optional<RejectedCells>>> where;
    /// Its files and what they are known by (intact_text), once they are written.
    std::vector<std::pair<std::filesystem::path, std::string>> files;

    /// Of its files, relative to the output folder, without what follows it.
    std::string name() const;
};

/// What its stars tell, its pictures, and what lay in its place before it. Of the session only what several threads may
/// use at once. Throws OutputError.
void look_at_light(const Session& session, FinishedLight& light, const Workers& workers);

/// Writes all its files, and tells the report of those of a comet. Needs nothing of a session: others may work on
/// meanwhile. Throws OutputError.
void write_files(FinishedLight& light, const std::filesystem::path& output, const Workers& workers);

/// Once they are written: takes away what lay beside the former one and no more does, and remembers it. Of the session
/// only what several threads may use at once.
void remember_light(Session& session, const FinishedLight& light);

} // namespace kasane
