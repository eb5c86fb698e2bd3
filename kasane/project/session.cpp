// What all stages of a run rely on: names, what files were when they were scanned, and what is remembered of results.
#include <kasane/project/session.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/io/fits.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// Names by identity: from the ledger, else from master lights that are there.
std::map<std::string, std::string> given_names(const Session& s) {
    std::map<std::string, std::string> names;
    const std::string prefix = "name/";
    for (const auto& [key, name] : s.ledger.choices(prefix))
        names[key.substr(prefix.size())] = name;
    if (!names.empty()) return names;
    std::error_code failed;
    for (fs::directory_iterator it(s.output / "lights", failed), end; !failed && it != end; it.increment(failed)) {
        if (it->path().extension() != ".fits" || !is_own_work(it->path())) continue;
        try {
            if (const auto identity = read_fits_summary(it->path()).header.text("STACKID"))
                names[*identity] = it->path().stem().string();
        } catch (const InputError&) { // a damaged result is simply made again
        }
    }
    return names;
}

void require_part_inside(const Session& s) {
    const Region& part = s.recipe.grading.part;
    if (part.empty()) return;
    for (const StackPlan& plan : s.pairing.stacks) {
        const Exposure& e = s.exposures[plan.lights.front().exposure];
        if (intersect(part, {0, 0, e.width, e.height}).empty())
            throw UsageError(
                fmt::format("the part to be measured (from {}, {} on) lies outside the lights of {}, which "
                            "are {} x {} pixels",
                            part.x, part.y, plan.name, e.width, e.height),
                recipe_file(s.options.folder), "Mend part in [grading], or --part");
    }
}

} // namespace

void pair_session(Session& s, const Scan& scan) {
    s.stamps = scan.stamps;
    s.unread.insert(scan.unreadable.begin(), scan.unreadable.end());
    PairingOptions options = s.recipe.pairing;
    options.names = given_names(s);
    s.pairing = pair_frames(s.exposures, options);
    s.masters.assign(s.pairing.masters.size(), std::nullopt);
    for (const std::string& hint : s.recipe.hints)
        s.pairing.findings.push_back({Level::note, "recipe-key-renamed", {"kasane.toml"}, hint, ""});
    require_part_inside(s);
    recall_cameras(s);
}

void remember_names(Session& s) {
    s.ledger.together([&] {
        for (const StackPlan& plan : s.pairing.stacks)
            s.ledger.set_choice("name/" + plan.identity, plan.name);
        for (const MasterPlan& plan : s.pairing.masters)
            if (!plan.existing) s.ledger.set_choice("name/" + plan.identity, plan.name);
    });
}

void Session::require_unchanged(std::size_t exposure) const {
    const auto now = file_stamp(path_of(exposure));
    if (exposure < stamps.size() && now == stamps[exposure]) return;
    throw InputError(now ? "was changed while it was being read" : "has vanished while it was being read",
                     path_of(exposure), "Run again when it is as it should be");
}

void Session::note_content(std::size_t exposure, const FrameReader& reader) {
    const Exposure& e = exposures[exposure];
    const std::string content = content_digest(path_of(exposure));
    std::string wrong;
    if (reader.header().find("DATASUM") || reader.header().find("CHECKSUM")) wrong = reader.check_sums();
    require_unchanged(exposure);
    ledger.set_content(e.path, content);
    if (!wrong.empty()) ledger.set_choice("checksum/" + e.identity, wrong);
}

const std::string& Session::metadata_key(std::size_t exposure) const {
    metadata.resize(exposures.size());
    std::string& key = metadata[exposure];
    if (!key.empty()) return key;
    const Exposure& e = exposures[exposure];
    if (e.role == Role::light || e.role == Role::flat || e.night.empty())
        return key = Key("metadata").add(metadata_of(e)).result();
    Exposure without = e;
    without.night.clear();
    return key = Key("metadata").add(metadata_of(without)).result();
}

bool Session::can_be_read(const std::string& path) const {
    const auto [known, fresh] = readable.try_emplace(path, false);
    if (!fresh) return known->second;
    try {
        const fs::path file = options.folder / path;
        const auto reader = open_frame(file);
        constexpr int kRows = 64;
        Image band(reader->width(), kRows);
        for (int p = 0; p < reader->planes(); ++p)
            for (int y = 0; y < reader->height(); y += kRows) {
                const Region r{0, y, reader->width(), std::min(kRows, reader->height() - y)};
                reader->read(r, band.plane().crop({0, 0, r.width, r.height}), p);
            }
        known->second = true;
    } catch (const Error&) { // still not
    } catch (const std::bad_alloc&) {
    }
    return known->second;
}

bool Session::any_can_be_read(const std::vector<std::string>& paths) const {
    return std::any_of(paths.begin(), paths.end(), [&](const std::string& p) { return can_be_read(p); });
}

std::optional<std::string> standing_choice(const Session& s, const std::string& name) {
    const auto text = s.ledger.choice(name);
    if (!text) return std::nullopt;
    const auto json = nlohmann::json::parse(*text, nullptr, false);
    if (!json.is_object()) return text; // made by an earlier version, which did not know of what it lacked
    try {
        if (s.any_can_be_read(json.at("lacked").get<std::vector<std::string>>())) return std::nullopt;
        return json.at("value").get<std::string>();
    } catch (const nlohmann::json::exception&) {
        return std::nullopt;
    }
}

void remember_choice(Session& s, const std::string& name, const std::string& value) {
    const std::vector<std::string> lacked(s.unread.begin(), s.unread.end());
    s.ledger.set_choice(name, json_text({{"value", value}, {"lacked", lacked}}));
}

namespace {
std::string intact_name(const Session& s, const fs::path& file) {
    return "intact/" + file.lexically_proximate(s.output).generic_string();
}
} // namespace

bool is_intact(const Session& s, const fs::path& file) {
    if (s.verified.count(file)) return true;
    const auto stamp = file_stamp(file);
    const auto known = s.ledger.choice(intact_name(s, file));
    if (!stamp || !known) return false;
    const auto space = known->find(' ');
    if (space == std::string::npos) return false;
    try {
        if (known->substr(0, space) != stamp->text()) {
            const std::string digest = known->substr(space + 1);
            if (content_digest(file) != digest) return false;
            s.ledger.set_choice(intact_name(s, file), stamp->text() + " " + digest); // copied, or touched
        }
    } catch (const InputError&) {
        return false;
    }
    s.verified.insert(file);
    return true;
}

void remember_intact(const Session& s, const fs::path& file) {
    const auto stamp = file_stamp(file);
    if (!stamp) throw OutputError("has vanished right after it was written", file, "Run again");
    s.ledger.set_choice(intact_name(s, file), stamp->text() + " " + content_digest(file));
    s.verified.insert(file);
}

fs::path light_file(const Session& s, const StackPlan& plan) {
    return s.output / "lights" / (plan.name + ".fits");
}

void require_free_places(const Session& s) {
    const auto with_picture = [](fs::path file) {
        require_replaceable(file);
        require_replaceable(file.replace_extension(".png"));
    };
    for (const StackPlan& plan : s.pairing.stacks)
        with_picture(light_file(s, plan));
    for (const std::size_t i : needed_masters(s.pairing))
        if (const MasterPlan& plan = s.pairing.masters[i]; !plan.existing)
            with_picture(master_file(s, plan, master_basis(s, plan).key()));
    for (const char* name : {"report.txt", "report.json"})
        require_replaceable(s.output / name);
}

} // namespace kasane
