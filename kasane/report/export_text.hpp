// What was exported, as text for a terminal.
#pragma once

#include <kasane/project/export_frames.hpp>
#include <kasane/project/export_masters.hpp>

#include <string>

namespace kasane {

/// A line a file: what it holds, what its numbers mean, what was cut off.
std::string export_text(const MasterExportReport& report, int columns);
/// How many were written, and which are missing, and why.
std::string export_text(const FrameExportReport& report, int columns);

} // namespace kasane
