// Grading a long night: from a folder of raw lights to a page that can be used.
#include "rows.hpp"
#include "simulated.hpp"

#include <kasane/io/reader.hpp>
#include <kasane/project/grade.hpp>
#include <kasane/report/review.hpp>

#include <fmt/format.h>

namespace kasane::bench {

std::vector<Row> grading(int lights, const Context& context) {
    sky::PlainOptions o{.width = 600, .height = 400, .lights = lights, .calibration = 10, .stars = 340};
    o.seconds = 60;
    o.transparency_low = 0.8;
    o.fwhm_spread = 0.2;
    const TemporaryFolder folder;
    const auto project = folder.path() / "project";
    fmt::print("writing {} lights of 600 x 400 pixels ...\n", lights);
    sky::write_scenario(sky::plain_scenario(o), project, context);
    GradeOptions options;
    options.run.folder = project;
    double plain = 0;
    for (int round = 0; round < 2; ++round) // the second is warm
        plain = seconds_of([&] {
            context.workers.for_each(static_cast<std::size_t>(lights), [&](std::size_t i) {
                const Image image =
                    read_plane(*open_frame(project / fmt::format("night-1/lights/L_{:03}.fits", i + 1)));
                Image copy = image;
            });
        });
    const double first = seconds_of([&] { ReviewServer server(options, context); });
    const double again = seconds_of([&] { ReviewServer server(options, context); });
    return {{"G4", fmt::format("grade {} lights of 0.24 MP and have the page ready", lights), first, "s", 20, false},
            {"G4", "the same over reading and copying their pixels", first / plain, "x", 20 / plain, false},
            {"G4", "again, nothing changed", again, "s", 2, false}};
}

} // namespace kasane::bench
