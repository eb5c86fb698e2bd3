// Stage 1: the files of a project, and what they say of themselves.
//
// Takes the folder and the recipe; leaves a Scan: exposures with roles and nights, looks at pixels where a role is not
// sure, and what could not be read.
#pragma once

#include <kasane/base/file_stamp.hpp>
#include <kasane/base/parallel.hpp>
#include <kasane/frames/exposure.hpp>
#include <kasane/frames/look.hpp>
#include <kasane/io/pixel_cache.hpp>
#include <kasane/ledger/ledger.hpp>
#include <kasane/pairing/findings.hpp>
#include <kasane/recipe/recipe.hpp>

#include <filesystem>
#include <optional>
#include <vector>

namespace kasane {

struct Scan {
    std::vector<Exposure> exposures;        ///< by path; roles and nights filled in
    std::vector<std::optional<Look>> looks; ///< as exposures, where one was taken
    std::vector<FileStamp> stamps;          ///< as exposures: when their headers were read
    std::vector<std::string> unreadable;    ///< files that could not be read, relative to the folder
    std::vector<Finding> findings;          ///< files that could not be read
    int other_files = 0;                    ///< of formats that are not exposures
    int excluded = 0;                       ///< by the recipe
    int from_ledger = 0;                    ///< known already and unchanged
};

struct ScanOptions {
    std::filesystem::path folder;
    std::filesystem::path output; ///< is passed over
    Recipe recipe;
    PixelCache* cache = nullptr; ///< for formats that must be decoded whole before they can be looked at
    bool look_at_all = false;    ///< at lights, flats and some darks too, not only at files that say nothing
};

/// Reads the headers of all exposures below the folder and those that the recipe names, skipping hidden folders, the
/// output and Kasane's own results and pictures; links to folders are followed once. Unchanged files (size and times)
/// that the ledger knows are not opened. Then applies the recipe, looks at the pixels of files whose role nothing else
/// tells, and gives every exposure its night. Throws InputError if the folder is not one, UsageError if the recipe
/// names a folder that holds the project itself.
Scan scan_folder(const ScanOptions& options, Ledger& ledger, const Context& context);

} // namespace kasane
