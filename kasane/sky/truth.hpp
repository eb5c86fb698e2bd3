// The truth about a simulated project, as data that tests and measurements read.
#pragma once

#include <kasane/sky/scenario.hpp>

#include <nlohmann/json_fwd.hpp>

namespace kasane::sky {

/// Writes truth.json (stars, and for each light its transform, transparency, sky, seeing and flaws), scene-FILTER.fits
/// (electrons per second on the reference grid, through a perfect instrument with the best light's star profile),
/// illumination-N.fits and defects.fits. Throws OutputError.
void write_truth(const Scenario& scenario, const Scene& scene, const std::vector<InstrumentMaps>& maps,
                 const std::filesystem::path& folder);

/// The contents of truth.json.
nlohmann::json truth_json(const Scenario& scenario, const Scene& scene);

} // namespace kasane::sky
