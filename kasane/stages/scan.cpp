#include <kasane/stages/scan.hpp>

#include <kasane/stages/folder_walk.hpp>
#include <kasane/stages/options.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/io/input_file.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/ledger/exposure_record.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <set>

namespace fs = std::filesystem;

namespace kasane {

namespace {

constexpr double kSure = 0.85; // confidence at which pixels overrule a name that is not sure

/// The files of one scan on their way to being understood.
class Scanner {
public:
    Scanner(const ScanOptions& options, Ledger& ledger, const Context& context)
        : options_(options), ledger_(ledger), context_(context) {}

    Scan run() {
        list();
        recall();
        read_headers();
        remember();
        gather();
        look();
        assign_nights(scan_.exposures, options_.recipe.nights);
        return std::move(scan_);
    }

private:
    void list() {
        FolderWalk walk(options_.output, options_.recipe.rules, scan_);
        walk.all(options_.folder, {});
        std::vector<std::string> folders = options_.recipe.folders;
        const std::string& library = options_.recipe.calibration.library;
        std::error_code none;
        if (!library.empty() && fs::is_directory(options_.folder / library, none) &&
            std::find(folders.begin(), folders.end(), library) == folders.end())
            folders.push_back(library);
        for (const std::string& other : folders) {
            std::error_code failed;
            const fs::path full = options_.folder / other;
            require_apart(other, full);
            if (fs::is_directory(full, failed))
                walk.all(full, fs::path(other).lexically_normal().string());
            else
                scan_.findings.push_back({Level::warning,
                                          "folder-missing",
                                          {other},
                                          "is no folder, though the recipe names it",
                                          "Mend folders in [project] of kasane.toml"});
        }
        files_ = walk.sorted();
        tell_idle_rules(walk.excluded());
        tell_hidden();
        exposures_.resize(files_.size());
        entries_.resize(files_.size());
        known_.assign(files_.size(), false);
        problems_.resize(files_.size());
    }

    /// A folder above the project, or all of the machine, would be walked through for nothing.
    void require_apart(const std::string& named, const fs::path& full) const {
        std::error_code failed;
        std::string outer = fs::weakly_canonical(full, failed).string(),
                    inner = fs::weakly_canonical(options_.folder, failed).string();
        if (!outer.ends_with('/')) outer += '/';
        if ((inner + "/").starts_with(outer))
            throw UsageError(fmt::format("the recipe names the folder {}, which holds the project itself", named), full,
                             "Name a folder beside the project, or one that holds nothing but calibration frames");
    }

    /// Exposures in the folder of the results would be passed over without a word.
    void tell_hidden() {
        std::vector<std::string> hidden;
        std::error_code failed;
        for (fs::recursive_directory_iterator it(options_.output, failed), end; !failed && it != end;
             it.increment(failed)) {
            std::error_code unknown;
            const fs::path& file = it->path();
            if (file.filename().string().starts_with('.')) { // as everywhere; Kasane's own folder has many more
                it.disable_recursion_pending();
                continue;
            }
            const bool exposure = is_readable_name(file) && !is_picture_name(file) && it->is_regular_file(unknown);
            if (exposure && !is_own_work(file))
                hidden.push_back(file.lexically_proximate(options_.folder).generic_string());
        }
        if (hidden.empty()) return;
        std::sort(hidden.begin(), hidden.end());
        const std::size_t n = hidden.size();
        scan_.findings.push_back(
            {Level::warning, "output-hides-files", std::move(hidden),
             fmt::format("{} file{} in the folder of the results, where nothing is taken for an "
                         "exposure",
                         n, n == 1 ? " lies" : "s lie"),
             "Name another folder with --output or in the recipe, or move what is no exposure away"});
    }

    void tell_idle_rules(const std::vector<std::string>& excluded) {
        for (const FileRule& rule : options_.recipe.rules.files) {
            const auto matches = [&](const std::string& path) { return glob_matches(rule.match, path); };
            if (std::any_of(files_.begin(), files_.end(), [&](const FoundFile& f) { return matches(f.path); }) ||
                std::any_of(excluded.begin(), excluded.end(), matches))
                continue;
            scan_.findings.push_back({Level::note,
                                      "rule-without-file",
                                      {"kasane.toml"},
                                      fmt::format("no file matches \"{}\" of [[files]]", rule.match),
                                      "Paths are relative to the project; '*' stays within a name, '**' goes across "
                                      "folders"});
        }
    }

    void recall() {
        auto all = ledger_.files();
        std::vector<std::size_t> unchanged;
        for (std::size_t i = 0; i < files_.size(); ++i) {
            const auto it = all.find(files_[i].path);
            if (it == all.end()) continue;
            entries_[i] = std::move(it->second);
            const Ledger::FileEntry& known = entries_[i];
            if (FileStamp{known.size, known.modified, known.changed} == files_[i].stamp) unchanged.push_back(i);
        }
        constexpr std::size_t kBlock = 256;
        context_.workers.for_each((unchanged.size() + kBlock - 1) / kBlock, [&](std::size_t b) {
            for (std::size_t k = b * kBlock; k < std::min(unchanged.size(), (b + 1) * kBlock); ++k)
                exposures_[unchanged[k]] = decode_exposure(entries_[unchanged[k]].record);
        });
        for (const std::size_t i : unchanged)
            if (exposures_[i]) {
                known_[i] = true;
                ++scan_.from_ledger;
            }
    }

    void read_headers() {
        std::vector<std::size_t> todo;
        for (std::size_t i = 0; i < files_.size(); ++i)
            if (!known_[i]) todo.push_back(i);
        context_.progress.begin("scan", static_cast<std::int64_t>(todo.size()));
        context_.workers.for_each(todo.size(), [&](std::size_t k) {
            read_header(todo[k]);
            context_.progress.advance();
        });
        context_.progress.end();
    }

    void read_header(std::size_t i) {
        const fs::path full = options_.folder / files_[i].path;
        try {
            exposures_[i] = describe_exposure(files_[i].path, read_summary(full));
            Ledger::FileEntry e;
            e.size = files_[i].stamp.size;
            e.modified = files_[i].stamp.modified;
            e.changed = files_[i].stamp.changed;
            e.fingerprint = fingerprint(full);
            // A file that was seen before, here or elsewhere: moved or renamed, it is the same; edited where the
            // fingerprint does not look, it is another. In its old place its times tell: that of the content can be set
            // back, that of any change cannot.
            const bool in_place = entries_[i].fingerprint == e.fingerprint;
            auto before = in_place ? std::optional(entries_[i]) : std::nullopt;
            if (!before || before->content.empty())
                if (auto elsewhere = ledger_.file_like(e.fingerprint)) before = std::move(elsewhere);
            if (before) {
                const bool same_times = before->modified == e.modified && (!in_place || before->changed == e.changed);
                const bool trusted = same_times || before->content.empty();
                const std::string now = trusted ? before->content : content_digest(full);
                e.content = now;
                e.revision = now == before->content ? before->revision : now;
                if (now == before->content && (same_times || !now.empty())) e.look = before->look;
            }
            e.record = encode(*exposures_[i]);
            entries_[i] = std::move(e);
        } catch (const InputError& e) {
            exposures_[i].reset();
            problems_[i] = {e.what_failed(), e.remedy()};
        }
    }

    void remember() {
        ledger_.together([&] {
            for (std::size_t i = 0; i < files_.size(); ++i)
                if (exposures_[i] && !known_[i]) ledger_.set_file(files_[i].path, entries_[i]);
        });
    }

    void gather() {
        for (std::size_t i = 0; i < files_.size(); ++i) {
            if (!exposures_[i]) {
                scan_.unreadable.push_back(files_[i].path);
                scan_.findings.push_back(
                    {Level::warning, "file-unreadable", {files_[i].path}, problems_[i].first, problems_[i].second});
                continue;
            }
            Exposure& e = *exposures_[i];
            const Ledger::FileEntry& entry = entries_[i];
            if (e.made_by_kasane && e.format != Format::fits) {
                ++scan_.other_files; // a picture of an exposure, made for looking
                continue;
            }
            e.path = files_[i].path;
            e.fingerprint = entry.fingerprint;
            e.identity = entry.revision.empty() ? entry.fingerprint : entry.fingerprint + "~" + entry.revision;
            apply_rules(e, options_.recipe.rules);
            settle_filter(e);
            scan_.exposures.push_back(std::move(e));
            scan_.stamps.push_back(files_[i].stamp);
            looks_.push_back(entry.look);
            contents_.push_back(entry.content);
        }
        tell_copies();
        scan_.looks.resize(scan_.exposures.size());
    }

    /// Files of one fingerprint are read whole once, to tell copies from files that differ where it does not look.
    void tell_copies() {
        std::map<std::string, std::vector<std::size_t>> alike;
        for (std::size_t i = 0; i < scan_.exposures.size(); ++i)
            alike[scan_.exposures[i].identity].push_back(i);
        for (const auto& [identity, list] : alike) {
            if (list.size() < 2) continue;
            std::map<std::string, std::vector<std::size_t>> by_content;
            for (const std::size_t i : list) {
                const Exposure& e = scan_.exposures[i];
                std::string& content = contents_[i];
                if (content.empty() && !attempt([&] { content = content_digest(options_.folder / e.path); }))
                    ledger_.set_content(e.path, content); // of one gone in this moment its own reader will tell
                by_content[content].push_back(i);
            }
            if (by_content.size() < 2) continue;
            for (const auto& [content, same] : by_content)
                for (const std::size_t i : same)
                    scan_.exposures[i].identity = scan_.exposures[i].fingerprint + "~" + content;
        }
    }

    static bool needs_role(const Exposure& e) {
        return (e.role == Role::unknown || e.role_confidence < 1) && !e.made_by_kasane && e.planes == 1;
    }

    void look() {
        if (!options_.recipe.look_at_pixels) return;
        auto& all = scan_.exposures;
        std::vector<std::size_t> wanted;
        std::map<std::string, int> darks;
        bool any_unknown = false;
        for (const Exposure& e : all)
            any_unknown = any_unknown || needs_role(e);
        for (std::size_t i = 0; i < all.size(); ++i) {
            const Exposure& e = all[i];
            if (e.is_master && e.role == Role::light) continue;
            const bool lit = options_.look_at_all && (e.role == Role::light || e.role == Role::flat);
            constexpr int kSomeDarks = 3; // tell the level without light
            const bool dark = (options_.look_at_all || any_unknown) && (e.role == Role::dark || e.role == Role::bias) &&
                              darks[sensor_key(e) + std::string(role_name(e.role))]++ < kSomeDarks;
            if (needs_role(e) || lit || dark) wanted.push_back(i);
        }
        std::vector<std::size_t> todo;
        for (const std::size_t i : wanted) {
            scan_.looks[i] = decode_look(looks_[i], needs_role(all[i]));
            if (!scan_.looks[i]) todo.push_back(i);
        }
        context_.progress.begin("look", static_cast<std::int64_t>(todo.size()));
        std::vector<std::pair<std::string, std::string>> failed(all.size());
        std::uint64_t largest = 1;
        for (const std::size_t i : todo)
            if (all[i].format != Format::fits)
                largest = std::max(largest, static_cast<std::uint64_t>(all[i].width) *
                                                static_cast<std::uint64_t>(all[i].height) * 8);
        context_.workers.for_each(
            todo.size(),
            [&](std::size_t k) {
                const std::size_t i = todo[k];
                const auto failure = attempt([&] {
                    const auto reader = open_frame(options_.folder / all[i].path, options_.cache);
                    scan_.looks[i] = look_at(
                        *reader, {.windows = needs_role(all[i]) ? 0 : 16, .full_scale = all[i].saturation.value_or(0)});
                });
                if (failure) failed[i] = {failure->what_failed, failure->remedy};
                context_.progress.advance();
            },
            context_.memory.fitting(largest, context_.workers.threads()));
        context_.progress.end();
        ledger_.together([&] {
            for (const std::size_t i : todo)
                if (scan_.looks[i]) ledger_.set_look(all[i].path, encode(*scan_.looks[i], needs_role(all[i])));
        });
        for (const std::size_t i : todo)
            if (!failed[i].first.empty()) {
                scan_.unreadable.push_back(all[i].path); // what is chosen without it holds until it can be read
                scan_.findings.push_back(
                    {Level::warning, "pixels-unreadable", {all[i].path}, failed[i].first, failed[i].second});
            }
        guess();
    }

    void guess() {
        auto& all = scan_.exposures;
        std::map<std::string, LookContext> sensors;
        const auto key = [](const Exposure& e) { return fmt::format("{} {}x{}", e.camera, e.width, e.height); };
        for (std::size_t i = 0; i < all.size(); ++i) {
            if (!scan_.looks[i] || scan_.looks[i]->windows == 0 || all[i].is_master) continue;
            add_to_context(sensors[key(all[i])], *scan_.looks[i]);
        }
        for (std::size_t i = 0; i < all.size(); ++i) {
            Exposure& e = all[i];
            if (!needs_role(e) || !scan_.looks[i]) continue;
            LookContext context = sensors[key(e)];
            context.seconds = e.seconds;
            const RoleGuess g = guess_role(*scan_.looks[i], context);
            if (g.role == Role::unknown || (e.role != Role::unknown && (g.role == e.role || g.confidence < kSure)))
                continue;
            set_value(e, Field::role, std::string(role_name(g.role)),
                      {Origin::pixels, fmt::format("show {} ({:.0f} %)", g.reason, 100 * g.confidence)});
            e.role_confidence = g.confidence;
            settle_filter(e);
        }
    }

    const ScanOptions& options_;
    Ledger& ledger_;
    const Context& context_;
    Scan scan_;
    std::vector<FoundFile> files_;
    std::vector<std::optional<Exposure>> exposures_;
    std::vector<Ledger::FileEntry> entries_;
    std::vector<bool> known_;
    std::vector<std::pair<std::string, std::string>> problems_; ///< what failed, remedy
    std::vector<std::string> looks_, contents_;                 ///< as scan_.exposures
};

} // namespace

Scan scan_folder(const ScanOptions& options, Ledger& ledger, const Context& context) {
    require_exposure_folder(options.folder);
    return Scanner(options, ledger, context).run();
}

} // namespace kasane
