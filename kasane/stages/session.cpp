// What all stages of a run rely on: names, what files were when they were scanned, and what is remembered of results.
#include <kasane/stages/session.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/memory.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/input_file.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace fs = std::filesystem;

namespace kasane {

void Session::require_unchanged(std::size_t exposure) const {
    const auto now = file_stamp(path_of(exposure));
    if (exposure < stamps.size() && now == stamps[exposure]) return;
    throw InputError(now ? "was changed while it was being read" : "has vanished while it was being read",
                     path_of(exposure), "Run again when it is as it should be");
}

void Session::note_content(std::size_t exposure, const FrameReader& reader) {
    const Exposure& e = exposures[exposure];
    const bool has_sums = reader.header().find("DATASUM") || reader.header().find("CHECKSUM");
    const auto check = has_sums ? reader.sum_check() : nullptr; // on the way: the file is read once for both
    const std::string content = content_digest(path_of(exposure), [&](std::span<const std::byte> bytes) {
        if (check) check->add(bytes);
    });
    const std::string wrong = check ? check->wrong() : has_sums ? reader.check_sums() : std::string();
    require_unchanged(exposure);
    ledger.set_content(e.path, content);
    if (!wrong.empty()) ledger.set_choice("checksum/" + e.identity, wrong);
}

bool Session::exposures_fit() const {
    std::uint64_t room = machine_memory();
    room -= std::min(room, context.memory.bytes);
    for (const auto& stamp : stamps) {
        if (stamp.size > room) return false;
        room -= stamp.size;
    }
    return true;
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

std::vector<Finding> checksum_findings(const Session& s) {
    std::vector<Finding> out;
    const auto wrong = s.ledger.choices("checksum/");
    if (wrong.empty()) return out;
    for (const Exposure& e : s.exposures)
        if (const auto it = wrong.find("checksum/" + e.identity); it != wrong.end())
            out.push_back({Level::warning,
                           "checksum-mismatch",
                           {e.path},
                           it->second,
                           "The file was damaged or edited after it was written; copy it again from the camera"});
    return out;
}

} // namespace kasane
