// What the command line says.
#pragma once

#include <CLI/CLI.hpp>
#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>

namespace kasane::cli {

struct Arguments {
    std::string verb;
    std::filesystem::path project = ".";
    bool json = false;
    bool quiet = false;
    int threads = 0;
    std::string memory;            ///< as given; see memory_bytes
    std::filesystem::path folder;  ///< run, scan, check, status, init: the folder; demo: where to write
    std::filesystem::path output;  ///< run, scan, check, status
    std::filesystem::path file;    ///< show
    std::filesystem::path preview; ///< show
    bool no_preview = false;
    bool stars = false;             ///< show: what was detected is drawn
    bool raw_only = false;          ///< show: not before and after calibration
    bool reference = false;         ///< init
    bool force = false;             ///< demo, init
    std::string variant = "nights"; ///< demo

    std::vector<std::string> limits, more_limits;   ///< grade, review, export
    std::vector<std::string> keep, drop, automatic; ///< grade: exposures
    std::string note;                               ///< grade
    std::string part;                               ///< grade: "x y w h"
    std::string sort = "verdict";                   ///< grade
    std::vector<std::string> columns;               ///< grade
    std::string filter, night;                      ///< grade, export
    bool only_dropped = false;                      ///< grade, export
    bool all_rows = false;                          ///< grade
    std::filesystem::path html;                     ///< review: a file instead of a server
    int port = 0;                                   ///< review, watch
    bool no_open = false;                           ///< review, watch
    bool no_page = false;                           ///< watch
    std::vector<std::string> forgotten;             ///< forget: cache, previews, results, all
    bool yes = false;                               ///< forget
    std::vector<std::string> only;                  ///< integrate: filters or stacks
    bool compare_rejections = false;                ///< integrate
    bool in_small = false;                          ///< integrate: previews
    std::vector<std::filesystem::path> images;      ///< align, compare, finish, export: instead of a project
    std::filesystem::path onto, write;              ///< align: image that gives their grid; where they go
    std::string model;                              ///< align: of images
    std::string reference_light;                    ///< align, run: path, glob or "auto"
    std::vector<std::string> comet;                 ///< run, integrate: marks, or "none"
    std::filesystem::path pictures;                 ///< align: folder for them
    std::filesystem::path csv;                      ///< grade, align
    std::string subject = "lights";                 ///< export
    std::filesystem::path target;                   ///< export: where to
    std::vector<std::string> how;                   ///< export: copy, hardlink, symlink; or formats
    bool linear = false, stretched = false;         ///< export: masters
    bool registered = false;                        ///< export: frames
    bool blank_rejected = false;                    ///< export: frames
    std::string range, name;                        ///< export: masters; "black white"; of the files
    std::optional<int> quality;                     ///< export: masters
    std::filesystem::path to;                       ///< finish: folder for the results
    std::string background, palette, white, crop;   ///< finish: as in the recipe; empty: as that says
    std::optional<int> turn, bin;                   ///< finish
    bool mirror = false;                            ///< finish
    std::optional<double> stretch, black, sharpen;  ///< finish, export
};

/// Adds all verbs and options, with their help, to `app`.
void describe(CLI::App& app, Arguments& arguments);

/// Bytes from "4G", "512M", "2048" (MiB). Throws UsageError.
std::uint64_t memory_bytes(const std::string& text);

} // namespace kasane::cli
