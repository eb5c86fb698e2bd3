// The grades of a project as text for a terminal, and as CSV.
#pragma once

#include <kasane/project/grade.hpp>

#include <string>
#include <vector>

namespace kasane {

struct GradeTableOptions {
    std::string sort = "verdict";     ///< or a measure, "time", "file"; worst first
    std::vector<std::string> columns; ///< measures; empty: the usual ones
    bool only_dropped = false;
    std::string filter, night; ///< only these; empty: all
    std::size_t most = 0;      ///< rows of a stack; 0: all
    int width = 100;           ///< characters of a line
};

/// Throws UsageError for names that are no measures.
std::string grade_text(const GradeReport& report, const GradeTableOptions& options);

/// Every exposure with all its measures, one a row, with a heading (RFC 4180).
std::string grade_csv(const GradeReport& report);

} // namespace kasane
