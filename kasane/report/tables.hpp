// The results as text that fits a terminal.
//
// The room holds, beside this:
//   terminal_text.hpp  tables, wrapped lines and spans of values as text
//   csv.hpp          cells of CSV
//   grade_table.hpp  grades as text and CSV
//   align_table.hpp  a registration as text and CSV
//   compare_text.hpp a comparison of images as text
//   finish_text.hpp  what finishing made, as text
//   export_text.hpp  what was exported, as text
//   watch_text.hpp   a night that is watched, as text and pictures of characters
//   align_pictures.hpp  the same drawn
//   show.hpp         a look at one image
//   json.hpp         everything as JSON
//   run_page.hpp     a run's result as one page; page_file.hpp: pages as one file
//   review.hpp       the review page and its server
//   review_request.hpp  what that page sends
//   page_assets.hpp  the files of the page
#pragma once

#include <kasane/ledger/records.hpp>
#include <kasane/project/check.hpp>
#include <kasane/report/terminal_text.hpp>
#include <kasane/stages/scan.hpp>

#include <string>
#include <vector>

namespace kasane {

/// Findings, one a paragraph.
std::string findings_text(const std::vector<Finding>& findings, int columns = kUsualColumns);

/// Masters, stacks, frames left out, findings, and where the results are.
std::string run_table(const RunReport& report, int columns = kUsualColumns);

/// The masters alone, findings, and where they are.
std::string masters_table(const RunReport& report, int columns = kUsualColumns);

/// What the numbers of one stack rest on, a line each.
std::vector<std::string> stack_lines(const StackReport& stack);

/// What each rejection that was tried would have done, and other weights would make: two tables a stack.
std::string choice_tables(const std::vector<StackReport>& stacks, int columns = kUsualColumns);
/// Writes report.txt (run_table, choice_tables) and report.json into the output folder. Throws OutputError.
void write_report(const RunReport& report);

/// What each file is, by role, night and filter; then what could not be placed.
std::string scan_table(const Scan& scan, const Pairing& pairing, int columns = kUsualColumns);

/// For each stack the pairing as a tree with reasons, what was not taken and why, findings, and what a run will cost.
std::string check_text(const CheckReport& report, int columns = kUsualColumns);

/// What is done, what is stale and why.
std::string status_text(const StatusReport& report, int columns = kUsualColumns);
/// What was let go of, or would be.
std::string forget_text(const ForgetReport& report, int columns = kUsualColumns);

} // namespace kasane
