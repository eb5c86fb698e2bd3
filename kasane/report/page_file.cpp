#include <kasane/report/page_file.hpp>

#include <kasane/io/jpeg.hpp>
#include <kasane/report/page_assets.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <openssl/evp.h>

namespace kasane {

namespace {

/// JSON inside a script element: nothing in it can end the element.
std::string script_safe(const std::string& json) {
    std::string out;
    out.reserve(json.size());
    for (const char c : json)
        if (c == '<')
            out += "\\u003c";
        else
            out += c;
    return out;
}

/// Puts in place of each line `before`NAME`after` what `with` makes of the name.
template <class F>
void replace_each(std::string& page, std::string_view before, std::string_view after, F with) {
    for (std::size_t at = 0; (at = page.find(before, at)) != std::string::npos;) {
        const std::size_t from = at + before.size(), end = page.find(after, from);
        if (end == std::string::npos) return;
        const std::string text = with(page.substr(from, end - from));
        page.replace(at, end + after.size() - at, text);
        at += text.size();
    }
}

/// How a content security policy names a script or a style that stands in the page: by its digest.
std::string source_of(std::string_view text) {
    std::array<unsigned char, EVP_MAX_MD_SIZE> digest{};
    unsigned int size = 0;
    EVP_Digest(text.data(), text.size(), digest.data(), &size, EVP_sha256(), nullptr);
    return "'sha256-" + base64(std::string(digest.begin(), digest.begin() + size)) + "'";
}

} // namespace

std::string page_file(std::string_view name, const nlohmann::json& data) {
    std::string page(page_asset(name)), styles, scripts;
    replace_each(page, "<link rel=\"stylesheet\" href=\"", "\">", [&](const std::string& css) {
        styles += " " + source_of(page_asset(css));
        return fmt::format("<style>{}</style>", page_asset(css));
    });
    bool given = false;
    replace_each(page, "<script src=\"", "\"></script>", [&](const std::string& script) {
        std::string before;
        if (!given && script != "chart.min.js") {
            given = true;
            before = "window.kasaneData = " +
                     script_safe(data.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace)) + ";\n";
        }
        const std::string text = before + std::string(page_asset(script));
        scripts += " " + source_of(text);
        return "<script>" + text + "</script>";
    });
    // Nothing runs and nothing is loaded but what stands in it now, whatever names and headers say.
    constexpr std::string_view kHead = "<meta charset=\"utf-8\">\n";
    if (const auto at = page.find(kHead); at != std::string::npos)
        page.insert(
            at + kHead.size(),
            fmt::format(
                "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; img-src data: blob:; "
                "connect-src data:; style-src{}; script-src{}; base-uri 'none'; form-action 'none'\">\n",
                styles, scripts));
    return page;
}

nlohmann::json rounded(double value, int digits) {
    return std::isfinite(value) ? nlohmann::json(std::stod(fmt::format("{:.{}g}", value, digits)))
                                : nlohmann::json(nullptr);
}

std::string base64(const std::string& bytes) {
    static const char* letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    std::string out;
    for (std::size_t i = 0; i < bytes.size(); i += 3) {
        std::uint32_t v = 0;
        for (std::size_t k = 0; k < 3; ++k)
            v = v << 8 | (i + k < bytes.size() ? static_cast<unsigned char>(bytes[i + k]) : 0);
        for (std::size_t k = 0; k < 4; ++k)
            out += i + k <= bytes.size() ? letters[v >> (18 - 6 * k) & 63] : '=';
    }
    return out;
}

std::string jpeg_address(const Raster<std::uint8_t>& image, int most, int& factor, int quality) {
    factor = std::max(1, (std::max(image.width(), image.height()) + most - 1) / most);
    Raster<std::uint8_t> small(std::max(1, image.width() / factor), std::max(1, image.height() / factor),
                               image.planes());
    for (int p = 0; p < image.planes(); ++p)
        for (int y = 0; y < small.height(); ++y)
            for (int x = 0; x < small.width(); ++x) {
                int sum = 0, count = 0;
                for (int j = y * factor; j < std::min(image.height(), (y + 1) * factor); ++j)
                    for (int i = x * factor; i < std::min(image.width(), (x + 1) * factor); ++i, ++count)
                        sum += image(i, j, p);
                small(x, y, p) = static_cast<std::uint8_t>((sum + count / 2) / std::max(1, count));
            }
    return "data:image/jpeg;base64," + base64(encode_jpeg(small, quality));
}

} // namespace kasane
