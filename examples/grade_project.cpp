// Measures all lights of a project and judges them by limits of one's own.
//
//   grade_project FOLDER [LIMIT...]        such as "fwhm > 1.3 x night median"
#include <kasane/base/error.hpp>
#include <kasane/project/grade.hpp>

#include <iostream>

int main(int argc, char** argv) try {
    if (argc < 2) {
        std::cerr << "usage: grade_project FOLDER [LIMIT...]\n";
        return 2;
    }
    kasane::GradeOptions options;
    options.run.folder = argv[1];
    options.limits.assign(argv + 2, argv + argc); // none: those of the project's recipe
    const kasane::Workers workers;                // all cores
    kasane::Progress silent;
    const kasane::GradeReport report = kasane::grade_project(options, {workers, kasane::default_budget(), silent});
    for (const kasane::StackGrade& stack : report.stacks) {
        std::cout << stack.name << "\n";
        for (const kasane::FrameGrade& frame : stack.frames)
            std::cout << "  " << frame.path << ": FWHM " << frame.figures[kasane::Measure::fwhm] << ", "
                      << (frame.verdict.keep ? "kept" : "dropped")
                      << (frame.verdict.reason.empty() ? "" : ": " + frame.verdict.reason) << "\n";
    }
    return report.clean() ? 0 : 1;
} catch (const kasane::Error& e) {
    std::cerr << e.what() << "\n";
    return 3;
}
