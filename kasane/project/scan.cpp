#include <kasane/project/scan.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/project/records.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <mutex>
#include <sys/stat.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {

struct Found {
    std::string path; ///< relative
    std::uint64_t size = 0;
    std::int64_t modified = 0;
};

std::vector<Found> list_files(const fs::path& folder, const fs::path& skip, Scan& scan) {
    std::vector<Found> found;
    std::error_code failed;
    const fs::path skipped = fs::weakly_canonical(skip, failed);
    auto it = fs::recursive_directory_iterator(folder, fs::directory_options::skip_permission_denied, failed);
    if (failed) throw InputError("cannot be read: " + failed.message(), folder, "Name a folder with exposures");
    for (const fs::recursive_directory_iterator end; it != end; it.increment(failed)) {
        if (failed) break;
        const fs::path& p = it->path();
        const bool hidden = p.filename().string().rfind('.', 0) == 0;
        if (it->is_directory(failed)) {
            if (hidden || (!skip.empty() && fs::weakly_canonical(p, failed) == skipped))
                it.disable_recursion_pending();
            else if (is_readable_name(p))
                scan.findings.push_back({Level::warning,
                                         "file-unreadable",
                                         {fs::relative(p, folder).string()},
                                         "is a folder, not a FITS file",
                                         "Rename or remove it"});
            continue;
        }
        if (hidden) continue;
        if (!is_readable_name(p)) {
            ++scan.other_files;
            continue;
        }
        struct stat info {};
        if (stat(p.c_str(), &info) != 0) {
            scan.findings.push_back({Level::warning,
                                     "file-unreadable",
                                     {p.lexically_relative(folder).string()},
                                     "cannot be read (a broken link?)",
                                     "Restore or remove it"});
            continue;
        }
        found.push_back({p.lexically_relative(folder).string(), static_cast<std::uint64_t>(info.st_size),
                         static_cast<std::int64_t>(info.st_mtim.tv_sec) * 1000000000 + info.st_mtim.tv_nsec});
    }
    std::sort(found.begin(), found.end(), [](const Found& a, const Found& b) { return a.path < b.path; });
    return found;
}

} // namespace

Scan scan_folder(const fs::path& folder, const fs::path& skip, Ledger* ledger, const Context& context) {
    std::error_code failed;
    if (!fs::is_directory(folder, failed))
        throw InputError("is not a folder", folder, "Name the folder that holds the exposures");
    Scan scan;
    const std::vector<Found> files = list_files(folder, skip, scan);
    std::vector<std::optional<Exposure>> exposures(files.size());
    std::vector<std::string> problem(files.size());

    if (ledger)
        ledger->together([&] {
            for (std::size_t i = 0; i < files.size(); ++i) {
                const auto known = ledger->file(files[i].path);
                if (!known || known->size != files[i].size || known->modified != files[i].modified) continue;
                const auto json = nlohmann::json::parse(known->record, nullptr, false);
                if (json.is_discarded()) continue;
                try {
                    exposures[i] = exposure_from_json(json);
                    exposures[i]->path = files[i].path; // JSON text may not hold every file name
                    ++scan.from_ledger;
                } catch (const nlohmann::json::exception&) { // a record of another version: read the file
                }
            }
        });
    context.progress.begin("scan", static_cast<std::int64_t>(files.size()));
    context.workers.for_each(files.size(), [&](std::size_t i) {
        if (!exposures[i]) {
            try {
                const fs::path full = folder / files[i].path;
                const FrameSummary s = read_fits_summary(full);
                Exposure e = describe_exposure(files[i].path, s.header, s.width, s.height, s.planes, s.bits);
                e.fingerprint = fingerprint(full);
                exposures[i] = std::move(e);
            } catch (const InputError& e) {
                problem[i] = fmt::format("{}|{}", e.what_failed(), e.remedy());
            }
        }
        context.progress.advance();
    });
    context.progress.end();
    if (ledger)
        ledger->together([&] {
            for (std::size_t i = 0; i < files.size(); ++i)
                if (exposures[i]) {
                    const auto known = ledger->file(files[i].path);
                    if (known && known->size == files[i].size && known->modified == files[i].modified) continue;
                    ledger->set_file(files[i].path,
                                     {files[i].size, files[i].modified, json_text(to_json(*exposures[i]))});
                }
        });
    for (std::size_t i = 0; i < files.size(); ++i) {
        if (exposures[i]) {
            exposures[i]->identity = fmt::format("{}@{}", exposures[i]->fingerprint, files[i].modified);
            scan.exposures.push_back(std::move(*exposures[i]));
        } else {
            const auto bar = problem[i].find('|');
            scan.findings.push_back({Level::warning,
                                     "file-unreadable",
                                     {files[i].path},
                                     problem[i].substr(0, bar),
                                     problem[i].substr(bar + 1)});
        }
    }
    assign_nights(scan.exposures);
    return scan;
}

} // namespace kasane
