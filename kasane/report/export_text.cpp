#include <kasane/report/export_text.hpp>

#include <kasane/report/json.hpp>
#include <kasane/report/terminal_text.hpp>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace kasane {

namespace {

const char* samples_of(MasterFormat f) {
    switch (f) {
    case MasterFormat::fits:
    case MasterFormat::tiff_float:
        return "32-bit floats";
    case MasterFormat::tiff:
    case MasterFormat::png:
        return "16 bits";
    case MasterFormat::png_8:
    case MasterFormat::jpeg:
        return "8 bits";
    }
    return "";
}

/// "0.3 %", "none".
std::string share(double s) {
    return s > 0 ? fmt::format("{:.2g} %", 100 * s) : "none";
}

std::string meaning(const ExportedMaster& e) {
    if (e.format == MasterFormat::fits) return "linear, ADU as in the master light";
    if (e.stretched) {
        const Stretch& curve = e.curves[e.curves.size() / 2];
        return fmt::format("stretched: black is {:.5g} ADU ({} below), white {:.5g} ADU ({} of the pixels beyond)",
                           curve.black, share(e.below), curve.white, share(e.beyond));
    }
    std::string out = fmt::format("linear: 0 is {:g} ADU, 1 is {:g} ADU", e.range.black, e.range.white);
    if (e.format == MasterFormat::tiff_float) return out + "; nothing is cut off";
    return out + fmt::format("; cut off: {} below, {} beyond", share(e.below), share(e.beyond));
}

} // namespace

std::string export_text(const MasterExportReport& r, int columns) {
    const auto width = static_cast<std::size_t>(columns);
    std::string out =
        fmt::format("{} file{} in {}\n", r.files.size(), r.files.size() == 1 ? "" : "s", clean(r.folder.string()));
    for (const ExportedMaster& e : r.files) {
        out += fmt::format("  {}\n", clean(e.file.filename().string()));
        const std::string what =
            fmt::format("{} x {} pixels, {}, {}; {}{}", e.width, e.height, e.planes == 3 ? "in colour" : "grey",
                        samples_of(e.format), meaning(e),
                        e.no_data > 0 ? fmt::format("; {:.3g} % without data", 100 * e.no_data) : "");
        out += fmt::format("      {}\n", wrapped(what, 6, width - 6));
        if (!e.doubt.empty()) out += fmt::format("    ! {}\n", wrapped(clean(e.doubt), 6, width - 6));
    }
    return out;
}

std::string export_text(const FrameExportReport& r, int columns) {
    std::string out = fmt::format(
        "{} light{} written into {}{}\n", r.written, r.written == 1 ? "" : "s", clean(r.folder.string()),
        r.there_already ? fmt::format("; {} {} there already", r.there_already, r.there_already == 1 ? "was" : "were")
                        : "");
    if (r.blanked > 0) out += fmt::format("  {} of their samples were rejected and are NaN\n", r.blanked);
    for (const FrameExportReport::LeftOut& l : r.left_out)
        out += fmt::format("  ! {}: {}\n", clean(l.path),
                           wrapped(clean(l.reason), 4, static_cast<std::size_t>(columns) - 4));
    return out;
}

nlohmann::json to_json(const FrameExportReport& r) {
    nlohmann::json left_out = nlohmann::json::array();
    for (const FrameExportReport::LeftOut& l : r.left_out)
        left_out.push_back({{"file", l.path}, {"reason", l.reason}});
    return {{"folder", r.folder.string()},
            {"written", r.written},
            {"there_already", r.there_already},
            {"rejected_samples", r.blanked},
            {"left_out", left_out}};
}

nlohmann::json to_json(const MasterExportReport& r) {
    nlohmann::json files = nlohmann::json::array();
    for (const ExportedMaster& e : r.files) {
        nlohmann::json curves = nlohmann::json::array();
        for (const Stretch& s : e.curves)
            curves.push_back({{"black", s.black}, {"white", s.white}, {"strength", s.strength}});
        nlohmann::json one = {{"source", e.source.string()},
                              {"file", e.file.string()},
                              {"format", std::string(kMasterFormatNames[static_cast<std::size_t>(e.format)])},
                              {"stretched", e.stretched},
                              {"width", e.width},
                              {"height", e.height},
                              {"planes", e.planes},
                              {"below_black", e.below},
                              {"beyond_white", e.beyond},
                              {"no_data", e.no_data}};
        if (e.stretched)
            one["stretch"] = curves;
        else if (e.format != MasterFormat::fits)
            one["range"] = {{"black", e.range.black}, {"white", e.range.white}};
        if (!e.doubt.empty()) one["doubt"] = e.doubt;
        files.push_back(std::move(one));
    }
    return {{"folder", r.folder.string()}, {"files", files}};
}

} // namespace kasane
