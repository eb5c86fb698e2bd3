// Times as files write them, and the nights they belong to.
#pragma once

#include <kasane/frames/exposure.hpp>

#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// Seconds since 1970-01-01 of an ISO 8601 date and time ("2031-03-12T21:30:05.25", a blank for the T, EXIF's colons in
/// the date); nothing for dates that do not exist, years before 1900 or after 2200, or text of another form.
std::optional<double> parse_time(const std::string& text);
/// The inverse: ISO 8601, to the second.
std::string time_text(double seconds_since_1970);

struct NightOptions {
    std::optional<double> time_zone; ///< hours east of UTC; for files that give UTC, and cameras whose clocks are local
};

/// Fills in `time` and the night of each exposure that has none yet: noon to noon of local time, by the camera's local
/// clock, the time zone, or local mean time at the site's longitude (its own, else that of the other exposures). Where
/// none of these is known, lights without a gap of eight hours between them are one night, and other frames belong to
/// the night within eight hours of them.
void assign_nights(std::vector<Exposure>& exposures, const NightOptions& options = {});

} // namespace kasane
