// The results as text that fits a terminal.
#pragma once

#include <kasane/ledger/records.hpp>
#include <kasane/project/check.hpp>
#include <kasane/stages/scan.hpp>

#include <string>
#include <vector>

namespace kasane {

/// Where nothing is known of the terminal.
inline constexpr int kUsualColumns = 100;

/// Columns of text, aligned; numbers to the right.
class Table {
public:
    explicit Table(std::vector<std::string> headings) { rows_.push_back(std::move(headings)); }
    void add(std::vector<std::string> row) { rows_.push_back(std::move(row)); }
    bool empty() const { return rows_.size() < 2; }
    /// At most `columns` characters wide, as far as leaving out columns helps: those of these headings, the first to go
    /// first. What was left out is said in a last line.
    std::string text(int columns = kUsualColumns, const std::vector<std::string>& least_needed = {}) const;

private:
    std::vector<std::vector<std::string>> rows_;
};

/// Text in lines of `width` characters; those after the first begin with `indent` blanks.
std::string wrapped(const std::string& text, std::size_t indent, std::size_t width = kUsualColumns);

/// Findings, one a paragraph.
std::string findings_text(const std::vector<Finding>& findings, int columns = kUsualColumns);

/// "1 h 24 min", "3 min 20 s", "45 s".
std::string duration_text(double seconds);

/// The same of exposure times: "unknown" where they are 0.
std::string exposure_text(double seconds);

/// Masters, stacks, frames left out, findings, and where the results are.
std::string run_table(const RunReport& report, int columns = kUsualColumns);

/// Writes report.txt (run_table) and report.json into the output folder. Throws OutputError.
void write_report(const RunReport& report);

/// What each file is, by role, night and filter; then what could not be placed.
std::string scan_table(const Scan& scan, const Pairing& pairing, int columns = kUsualColumns);

/// For each stack the pairing as a tree with reasons, what was not taken and why, findings, and what a run will cost.
std::string check_text(const CheckReport& report, int columns = kUsualColumns);

/// What is done, what is stale and why.
std::string status_text(const StatusReport& report, int columns = kUsualColumns);

} // namespace kasane
