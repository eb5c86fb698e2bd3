// A run's result as one page: the master lights, how they grew, what is wanting, and every decision.
#pragma once

#include <kasane/project/result.hpp>

#include <nlohmann/json_fwd.hpp>
#include <string>

namespace kasane {

/// What the page shows, without its pictures: part of report.json too.
nlohmann::json result_json(const ProjectResult& result);

/// One self-contained file, readable without Kasane; what it shows is read from the output folder named in the report.
std::string run_page(const ProjectResult& result);

/// Whether the page of a run is there already, and whole.
bool has_page(const RunReport& run);

/// Writes report.html into the output folder. Returns where it is. Throws OutputError.
std::filesystem::path write_run_page(const ProjectResult& result);

} // namespace kasane
