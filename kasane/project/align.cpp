#include <kasane/project/align.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/recipe/edit.hpp>
#include <kasane/registration/agreement.hpp>
#include <kasane/stages/align.hpp>
#include <kasane/stages/grade.hpp>
#include <kasane/stages/masters.hpp>
#include <kasane/stages/open_project.hpp>
#include <kasane/stages/outside_image.hpp>
#include <kasane/stages/pair.hpp>
#include <kasane/stages/panels.hpp>
#include <kasane/stages/shared_grid.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <fstream>
#include <map>
#include <set>
#include <sstream>

namespace fs = std::filesystem;

namespace kasane {

namespace {

constexpr std::size_t kPlaces = 150; // stars of a list that are shown

std::vector<Point> places_of(const std::vector<Star>& stars) {
    std::vector<Point> out;
    for (const Star& s : stars) {
        if (out.size() == kPlaces) break;
        out.push_back({s.x, s.y});
    }
    return out;
}

/// The frame's edge on the grid: what a lens bends is seen to be bent.
std::vector<Point> outline_of(const Transform& to_frame, int width, int height) {
    constexpr int kPieces = 6; // of each side
    std::vector<Point> out;
    const double right = width - 0.5, bottom = height - 0.5;
    const Point corners[] = {{-0.5, -0.5}, {right, -0.5}, {right, bottom}, {-0.5, bottom}, {-0.5, -0.5}};
    for (int side = 0; side < 4; ++side)
        for (int k = 0; k < kPieces; ++k) {
            const double share = static_cast<double>(k) / kPieces;
            const Point &a = corners[side], &b = corners[side + 1];
            const Point p = to_frame.unmap({a.x + share * (b.x - a.x), a.y + share * (b.y - a.y)});
            if (std::isfinite(p.x) && std::isfinite(p.y)) out.push_back(p);
        }
    return out;
}

/// Of the stars that agree under the transform, within a few of their expected distances.
std::vector<Residual> residuals_of(const std::vector<Star>& reference, const std::vector<Star>& stars,
                                   const Registration& found) {
    constexpr double kNear = 5, kLeast = 0.5; // expected distances; pixels
    const StarIndex index(stars);
    const StarPair pair{reference, stars, index};
    std::vector<Residual> out;
    for (const StarMatch& m :
         match_stars(pair, found.to_frame, std::max({kLeast, kNear * found.expected, 2 * found.rms}))) {
        const Star &s = pair.of_reference(m), &q = pair.of_frame(m);
        const Point p = found.to_frame.map({s.x, s.y});
        const double scale2 = std::abs(found.to_frame.at({s.x, s.y}).determinant());
        out.push_back({{q.x, q.y},
                       q.x - p.x,
                       q.y - p.y,
                       std::sqrt(2 * (position_variance(q) + scale2 * position_variance(s))),
                       m.reference});
    }
    return out;
}

AlignedFrame frame_of(const Session& session, const Light& l, const GradedLights& graded) {
    AlignedFrame f;
    const Exposure& e = *l.exposure;
    f.rig = rig_of(session, e);
    f.path = e.path;
    f.night = e.night;
    f.start = e.start.empty() ? e.start_local : e.start;
    f.measured = l.measures != nullptr;
    f.text = l.problem;
    if (!l.measures) return f;
    f.width = l.measures->width;
    f.height = l.measures->height;
    const std::vector<Star>& stars = l.measures->main().stars;
    f.stars = static_cast<int>(stars.size());
    f.is_reference = l.measures == graded.reference;
    if (!l.registration) {
        f.text = l.registration.text;
        f.places = places_of(stars);
        return f;
    }
    const Registration& r = *l.registration;
    f.registered = true;
    f.model = r.model.text();
    f.way = r.way;
    f.matched = r.matched;
    f.rms = r.rms;
    f.expected = r.expected;
    f.order = r.order;
    f.shift_x = l.pose.x;
    f.shift_y = l.pose.y;
    f.turn = l.pose.rotation;
    const Affine here = r.to_frame.at(r.to_frame.unmap({0.5 * (f.width - 1), 0.5 * (f.height - 1)}));
    f.scale = here.scale();
    f.mirrored = here.determinant() < 0;
    f.outline = outline_of(r.to_frame, f.width, f.height);
    if (!f.is_reference) f.residuals = residuals_of(graded.reference->main().stars, stars, r);
    return f;
}

/// Means of what all lights of a rig leave, by squares of the frame: noise goes, what the lens does stays.
std::vector<Residual> field_of(const std::vector<const AlignedFrame*>& frames, int width, int height) {
    constexpr int kAlong = 14; // squares along the longer side
    constexpr std::size_t kEnough = 3;
    const double side = static_cast<double>(std::max(width, height)) / kAlong;
    struct Square {
        std::vector<float> x, y;
        double variance = 0, at_x = 0, at_y = 0;
        std::set<int> stars;
    };
    std::map<std::pair<int, int>, Square> squares;
    for (const AlignedFrame* f : frames)
        for (const Residual& r : f->residuals) {
            Square& s = squares[{static_cast<int>(r.at.y / side), static_cast<int>(r.at.x / side)}];
            s.x.push_back(static_cast<float>(r.x));
            s.y.push_back(static_cast<float>(r.y));
            s.variance += r.expected * r.expected;
            s.stars.insert(r.star);
            s.at_x += r.at.x, s.at_y += r.at.y;
        }
    std::vector<Residual> out;
    for (auto& [where, s] : squares) {
        const auto n = static_cast<double>(s.x.size());
        if (s.x.size() < kEnough) continue;
        out.push_back({{s.at_x / n, s.at_y / n},
                       static_cast<double>(median_in_place(s.x)),
                       static_cast<double>(median_in_place(s.y)),
                       // Half of it is the partners', which do not change from light to light.
                       std::sqrt(0.5 * s.variance / n * (1 / n + 1 / static_cast<double>(s.stars.size()))),
                       0});
    }
    return out;
}

std::string rig_name(const Exposure& e, int width, int height) {
    std::string name = e.camera.empty() ? "camera" : e.camera;
    if (!e.telescope.empty()) name += ", " + e.telescope;
    if (e.turn) name += fmt::format(", turned by {}", e.turn);
    return fmt::format("{}, {} x {}", name, width, height);
}

void add_rigs(const GradedLights& graded, AlignedGrid& grid) {
    struct Members {
        const Exposure* first = nullptr;
        std::vector<const AlignedFrame*> frames;
    };
    std::map<std::string, Members> rigs;
    for (std::size_t k = 0; k < graded.lights.size(); ++k)
        for (std::size_t i = 0; i < graded.lights[k].size(); ++i) {
            const AlignedFrame& f = grid.stacks[k].frames[i];
            if (!f.measured) continue;
            Members& m = rigs[f.rig];
            if (!m.first) m.first = graded.lights[k][i].exposure;
            m.frames.push_back(&f);
        }
    for (const auto& [key, m] : rigs) {
        AlignedRig rig;
        rig.key = key;
        rig.width = m.frames.front()->width;
        rig.height = m.frames.front()->height;
        rig.name = rig_name(*m.first, rig.width, rig.height);
        rig.frames = static_cast<int>(m.frames.size());
        if (const auto it = graded.optics.find(key); it != graded.optics.end()) rig.optics = it->second;
        rig.field = field_of(m.frames, rig.width, rig.height);
        grid.rigs.push_back(std::move(rig));
    }
}

AlignedGrid align_grid(Session& s, Calibrations& calibrations, const ReferenceGroup& group) {
    GradedLights graded = grade_group(s, calibrations, group, remembered_reference(s, group));
    AlignedGrid grid;
    grid.name = group.name;
    grid.reference = graded.reference_path;
    grid.reason = graded.reference_reason;
    grid.runners_up = graded.runners_up;
    grid.width = graded.canvas.width;
    grid.height = graded.canvas.height;
    if (graded.reference) grid.reference_places = places_of(graded.reference->main().stars);
    for (std::size_t k = 0; k < group.stacks.size(); ++k) {
        const StackPlan& plan = s.pairing.stacks[group.stacks[k]];
        AlignedStack stack{plan.name, plan.target, plan.filter, plan.sensor, {}};
        for (const Light& l : graded.lights[k])
            stack.frames.push_back(frame_of(s, l, graded));
        grid.stacks.push_back(std::move(stack));
    }
    add_rigs(graded, grid);
    return grid;
}

} // namespace

bool AlignReport::clean() const {
    for (const AlignedGrid& g : grids)
        for (const AlignedStack& s : g.stacks)
            for (const AlignedFrame& f : s.frames)
                if (!f.registered) return false;
    return std::all_of(findings.begin(), findings.end(), [](const Finding& f) { return f.level == Level::note; });
}

AlignReport align_project(const RunOptions& options, const Context& context) {
    const Stopwatch clock;
    OpenProject project(options, context);
    Session& s = project.session;
    AlignReport report;
    report.folder = options.folder.string();
    if (s.pairing.stacks.empty())
        throw DataError(fmt::format("there are no lights to align among its {} exposures", s.exposures.size()),
                        options.folder, "Add lights, or see with 'kasane check' what each file was taken for");
    if (const auto missing = reference_finding(s))
        throw UsageError(missing->text, recipe_file(options.folder), missing->remedy);
    remove_all_leftovers(s);
    remember_names(s);
    make_masters(s);
    settle_panels(s);
    settle_grids(s);
    Calibrations calibrations(s);
    for (const ReferenceGroup& group : reference_groups(s))
        report.grids.push_back(align_grid(s, calibrations, group));
    for (const auto& list : {project.scan.findings, s.pairing.findings, project.report.findings})
        report.findings.insert(report.findings.end(), list.begin(), list.end());
    report.time = clock.seconds();
    return report;
}

std::string keep_reference(const RunOptions& options, const std::string& wish, const Context& context) {
    RunOptions wanted = options;
    wanted.recipe = recipe_of(options);
    RegistrationRecipe& r = wanted.recipe->registration;
    if (!r.onto.empty() && wish != "auto")
        throw UsageError("[registration] onto gives the grid, so that no light can", recipe_file(options.folder),
                         "Take onto out of the recipe first");
    r.reference = wish == "auto" ? "" : wish;
    std::string written = wish;
    {
        const OpenProject project(wanted, context, {.use = Ledger::Use::look});
        if (const auto missing = reference_finding(project.session))
            throw UsageError(missing->text, options.folder, missing->remedy);
        std::vector<std::string> named;
        for (const ReferenceGroup& g : reference_groups(project.session))
            for (const std::string& identity : wished_references(project.session, g))
                for (const Exposure& e : project.session.exposures)
                    if (e.identity == identity) named.push_back(e.path);
        if (named.size() == 1 && wish != "auto") written = named.front(); // wherever it was named from
    }
    const fs::path file = recipe_file(options.folder);
    const std::string before = content_of(file).value_or("");
    const std::string after = recipe_with_reference(before, written, file);
    if (after != before) write_text_safely(file, after, Over::anything);
    return written;
}

} // namespace kasane
