#include <kasane/project/master_files.hpp>

#include <kasane/base/error.hpp>
#include <kasane/frames/exposure.hpp>
#include <kasane/project/result.hpp>
#include <kasane/stages/outside_image.hpp>

namespace fs = std::filesystem;

namespace kasane {

namespace {

std::vector<double> stated_noise(const Header& h, int planes) {
    std::vector<double> out;
    for (int p = 0; p < planes; ++p) {
        static const char* kKeys[] = {"NOISER", "NOISEG", "NOISEB"};
        const auto value = planes == 3 ? h.number(kKeys[p]) : h.number("NOISE");
        if (!value || !(*value > 0)) return {};
        out.push_back(*value);
    }
    return out;
}

} // namespace

MasterFile master_of(const fs::path& file) {
    MasterFile s;
    s.file = file;
    const FrameSummary summary = read_summary(file);
    if (!summary.linear)
        throw InputError("is no linear image: its format is for looking at", file, "Name the FITS file it was made of");
    const auto view = view_of_image(file);
    s.width = view->width(), s.height = view->height(), s.planes = view->planes();
    s.header = summary.header;
    const Exposure e = describe_exposure(file.string(), summary);
    s.name = file.stem().string();
    s.filter = e.filter;
    s.target = e.target;
    s.ours = e.made_by_kasane, s.mosaic = !e.cfa.empty();
    if (s.ours) s.noise = stated_noise(summary.header, s.planes);
    return s;
}

RunMasters masters_of_last_run(const RunOptions& project, const std::string& done) {
    const RunReport run = last_run(project);
    RunMasters out{run.output, {}};
    std::error_code failed;
    for (const StackReport& s : run.stacks)
        if (!s.file.empty() && fs::exists(out.output / s.file, failed)) out.files.push_back(out.output / s.file);
    if (out.files.empty())
        throw UsageError("there are no master lights that could be " + done, out.output, "Make them first: kasane run");
    return out;
}

} // namespace kasane
