// A page with all that it needs in one file.
#pragma once

#include <kasane/image/image.hpp>

#include <nlohmann/json_fwd.hpp>
#include <string>
#include <string_view>
#include <vector>

namespace kasane {

/// The built-in page of that name with its style sheets and scripts written into it, and `data` as window.kasaneData
/// before the first script. Nothing in the data can end the script's element.
std::string page_file(std::string_view page, const nlohmann::json& data);

/// To so many digits, as pages show it and no longer; null where it is not a number.
nlohmann::json rounded(double value, int digits = 6);

/// RFC 4648, section 4.
std::string base64(const std::string& bytes);

/// "data:image/jpeg;base64,..." of an image, averaged down by a whole factor until its longer side is `most` pixels or
/// fewer; `factor` receives it.
std::string jpeg_address(const Raster<std::uint8_t>& image, int most, int& factor, int quality = 80);

} // namespace kasane
