#include <kasane/project/holdings.hpp>

#include <kasane/base/output_file.hpp>
#include <kasane/ledger/ledger.hpp>
#include <kasane/project/check.hpp>

#include <algorithm>
#include <cctype>
#include <tuple>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// Calls `f` with each regular file below a folder, not following links, as far as they can be listed.
template <class F>
void for_each_file(const fs::path& folder, F f) {
    std::error_code failed;
    for (fs::recursive_directory_iterator it(folder, failed), end; !failed && it != end; it.increment(failed)) {
        std::error_code unknown;
        if (it->symlink_status(unknown).type() != fs::file_type::regular) continue;
        const auto bytes = it->file_size(unknown);
        f(it->path(), unknown ? 0 : static_cast<std::uint64_t>(bytes));
    }
}

bool is_digest(const std::string& stem) {
    return stem.size() >= 16 && std::all_of(stem.begin(), stem.end(), [](unsigned char c) { return std::isxdigit(c); });
}

/// Which kind a file of the folder `.kasane` is; empty: nobody's.
std::string kind_of(const fs::path& file, const fs::path& folder) {
    const fs::path within = file.lexically_relative(folder);
    const std::string first = within.begin()->string(), name = file.filename().string(), ending = file.extension();
    if (first == "cache") return ending == ".fits" && is_digest(file.stem()) ? "cache" : "";
    if (first == "previews") return ending == ".jpg" && is_digest(file.stem()) ? "previews" : "";
    if (first == "former") return ending == ".png" ? "former" : "";
    if (first == "ledger.sqlite" || first == "ledger.sqlite-wal" || first == "ledger.sqlite-shm") return "ledger";
    return name.starts_with("ledger.") ? "put aside" : "";
}

} // namespace

std::vector<Holding> holdings(const RunOptions& options) {
    std::vector<Holding> all = {{"ledger", "what was found out about files and made of them"},
                                {"cache", "decoded pixels"},
                                {"previews", "previews of lights"},
                                {"former", "pictures of what master lights were before"},
                                {"put aside", "ledgers that were damaged, or of a newer version"}};
    const fs::path folder = memory_folder(options);
    for_each_file(folder, [&](const fs::path& file, std::uint64_t bytes) {
        const std::string kind = kind_of(file, folder);
        for (Holding& h : all)
            if (h.name == kind) {
                h.bytes += bytes;
                ++h.files;
            }
    });
    std::erase_if(all, [](const Holding& h) { return h.files == 0; });
    return all;
}

std::uint64_t ForgetReport::bytes() const {
    std::uint64_t sum = 0;
    for (const File& f : files)
        if (f.problem.empty()) sum += f.bytes;
    return sum;
}

ForgetReport forget(const RunOptions& run, const ForgetOptions& o, const Context& context) {
    ForgetReport report;
    report.folder = run.folder.string();
    const fs::path folder = memory_folder(run);
    if (o.results) {
        const StatusReport status = project_status(run, context);
        for (const std::string& name : status.leftovers)
            for (const char* ending : {".fits", ".png"}) {
                const fs::path file = (fs::path(status.output) / name).replace_extension(ending);
                std::error_code unknown;
                if (fs::symlink_status(file, unknown).type() != fs::file_type::regular) continue;
                const auto bytes = fs::file_size(file, unknown);
                report.files.push_back({"results", file.string(), unknown ? 0 : bytes,
                                        is_own_work(file) ? "" : "was not written by Kasane, or was changed since"});
            }
    } else {
        require_exposure_folder(run.folder);
    }
    for_each_file(folder, [&](const fs::path& file, std::uint64_t bytes) {
        const std::string kind = kind_of(file, folder);
        if (kind == "cache" && o.cache) report.files.push_back({"cache", file.string(), bytes, {}});
        if ((kind == "previews" || kind == "former") && o.previews)
            report.files.push_back({"previews", file.string(), bytes, {}});
    });
    std::sort(report.files.begin(), report.files.end(),
              [](const auto& a, const auto& b) { return std::tie(a.kind, a.path) < std::tie(b.kind, b.path); });
    if (!o.remove || report.files.empty()) return report;
    const Ledger held(folder); // nobody else works here meanwhile
    for (ForgetReport::File& f : report.files) {
        std::error_code failed;
        if (f.problem.empty() && !fs::remove(f.path, failed) && failed)
            f.problem = "could not be removed: " + failed.message();
    }
    report.removed = true;
    return report;
}

} // namespace kasane
