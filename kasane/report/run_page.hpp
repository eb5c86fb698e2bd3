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

/// Where the page of a run lies: report.html in its output folder.
std::filesystem::path page_of(const RunReport& run);

/// Whether the page of a run is there already, and whole.
bool has_page(const RunReport& run);

/// Writes the page. Returns where it is. Throws OutputError, and UsageError where another file stands in the way.
std::filesystem::path write_run_page(const ProjectResult& result);

} // namespace kasane
