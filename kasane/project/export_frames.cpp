#include <kasane/project/export_frames.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/integration/regrid.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/tiff.hpp>
#include <kasane/io/world_coordinates.hpp>
#include <kasane/ledger/keys.hpp>
#include <kasane/project/export_header.hpp>
#include <kasane/stages/canvas_sky.hpp>
#include <kasane/stages/grade.hpp>
#include <kasane/stages/masters.hpp>
#include <kasane/stages/open_project.hpp>
#include <kasane/stages/pair.hpp>
#include <kasane/stages/panels.hpp>
#include <kasane/stages/rejected_lights.hpp>
#include <kasane/stages/shared_grid.hpp>
#include <kasane/stages/stack_basis.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <set>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// A mosaic as its sensor has it, or the planes of a file: calibrated, repaired.
class CalibratedPlanes final : public PlaneSource {
public:
    explicit CalibratedPlanes(const CalibratedView& view) : view_(view) {}
    int planes() const override { return view_.planes(); }
    int width() const override { return view_.width(); }
    int height() const override { return view_.height(); }
    const fs::path& path() const override { return view_.raw().path(); }
    void read(const Region& region, std::span<const View<float>> out, std::span<QualityPlane> quality) const override {
        for (int p = 0; p < planes(); ++p)
            view_.read(region, out[static_cast<std::size_t>(p)], p,
                       quality.empty() ? nullptr : &quality[static_cast<std::size_t>(p)]);
    }
    void release() const override { view_.release(); }
    std::uint64_t mapped_bytes(const Region& region) const override { return view_.mapped_bytes(region); }

private:
    const CalibratedView& view_;
};

class Exporting {
public:
    Exporting(const FrameExportOptions& o, const Context& context) : o_(o), project_(o.project, context) {}

    FrameExportReport run() {
        Session& s = project_.session;
        if (s.pairing.stacks.empty())
            throw DataError(fmt::format("there are no lights among its {} exposures", s.exposures.size()),
                            o_.project.folder, "Add lights, or see with 'kasane check' what each file was taken for");
        if (o_.blank && o_.dropped)
            throw UsageError("of lights that are dropped no pixels are rejected: they were in no stack", {},
                             "Ask for the kept lights, or for the dropped ones as they are");
        require_outside(o_.project.folder, o_.to);
        require_some();
        if (const auto missing = reference_finding(s))
            throw UsageError(missing->text, recipe_file(o_.project.folder), missing->remedy);
        require_writable_folder(o_.to);
        report_.folder = o_.to;
        remove_all_leftovers(s);
        remember_names(s);
        make_masters(s);
        settle_panels(s);
        settle_grids(s);
        Calibrations calibrations(s);
        for (const ReferenceGroup& group : reference_groups(s)) {
            const GradedLights graded = grade_group(s, calibrations, group, remembered_reference(s, group));
            if (o_.registered) sky_ = sky_of(graded);
            if (o_.blank) settle_rejection(group, calibrations, graded);
            for (std::size_t k = 0; k < group.stacks.size(); ++k) {
                stack_ = group.stacks[k];
                const std::vector<Asked> asked = asked_for(graded.lights[k], graded, calibrations);
                if (asked.empty()) continue;
                if (o_.blank) reject();
                s.context.progress.begin("export " + s.pairing.stacks[stack_].name,
                                         static_cast<std::int64_t>(asked.size()));
                for (const Asked& a : asked) {
                    s.context.workers.cancel().check();
                    make(*a.light, a.key, graded, calibrations);
                    s.context.progress.advance(1);
                }
                s.context.progress.end();
            }
        }
        return std::move(report_);
    }

private:
    /// Of the grid, as the headers of the lights that are kept on it say: where a master light would lie.
    std::optional<WorldCoordinates> sky_of(const GradedLights& graded) const {
        std::vector<const Light*> used;
        for (const std::vector<Light>& lights : graded.lights)
            for (const Light& l : lights)
                if (l.registration && l.verdict.keep) used.push_back(&l);
        return used.empty() ? std::nullopt : sky_of_canvas(project_.session, graded, used, graded.canvas, false).world;
    }

    bool wanted(const Exposure& e) const {
        return (o_.filter.empty() || fold_filter(e.filter) == fold_filter(o_.filter)) &&
               (o_.night.empty() || e.night == o_.night);
    }

    fs::path place_of(const Exposure& e) const {
        const fs::path place = exported_place(o_.to, e.path);
        return place.parent_path() /
               (place.stem().string() + (o_.registered ? ".registered" : ".calibrated") + (o_.tiff ? ".tif" : ".fits"));
    }

    /// Every name that may be written is free, or ours.
    void require_some() const {
        const Session& s = project_.session;
        std::map<fs::path, const Exposure*> places;
        bool any = false;
        for (const StackPlan& plan : s.pairing.stacks)
            for (const LightPlan& l : plan.lights) {
                const Exposure& e = s.exposures[l.exposure];
                if (!wanted(e)) continue;
                any = true;
                const fs::path place = place_of(e);
                const auto [other, fresh] = places.emplace(place, &e);
                if (!fresh)
                    throw UsageError(fmt::format("{} and {} would both become {}", other->second->path, e.path,
                                                 place.filename().string()),
                                     o_.to, "Rename one of them, or export by night or filter");
                require_replaceable(place);
            }
        if (!any)
            throw UsageError("no light is of that filter and night", o_.project.folder,
                             "See with 'kasane scan' what there are");
    }

    /// What is in the file, as one digest.
    std::string key_of(const Light& l, const GradedLights& graded, const Calibrations& calibrations) {
        Key key("exported light");
        key.add(l.exposure->identity, calibrations.key(*l.plan), o_.registered, o_.tiff);
        if (o_.blank) key.add(joint().basis);
        if (o_.registered) {
            key.add(graded.canvas.width, graded.canvas.height);
            if (sky_) {
                const SkyPoint middle = sky_->to_sky(graded.canvas.centre()), corner = sky_->to_sky({0, 0});
                key.add(middle.ra, middle.dec, corner.ra, corner.dec);
            }
            for (const Transform& t : l.to_frame)
                for (const double x : {0.1, 0.5, 0.9})
                    for (const double y : {0.1, 0.5, 0.9}) {
                        const Point p = t.map({x * graded.canvas.width, y * graded.canvas.height});
                        key.add(p.x, p.y);
                    }
        }
        return key.result();
    }

    /// Whether an earlier call wrote just that.
    static bool is_there(const fs::path& file, const std::string& key) {
        std::error_code failed;
        if (!fs::is_regular_file(file, failed)) return false;
        bool same = false;
        const auto failure = attempt([&] {
            const Header h = read_summary(file).header;
            same = h.text("EXPORTED") == key ||
                   h.text("Exif.ImageDescription").value_or("").find(key) != std::string::npos;
        });
        return !failure && same;
    }

    void leave(const Light& l, std::string reason) {
        report_.left_out.push_back({l.exposure->path, std::move(reason)});
    }

    /// A light whose file is to be made, and the digest of what will be in it.
    struct Asked {
        const Light* light = nullptr;
        std::string key;
    };

    /// Those of a stack that are wanted, can be made, and are not there yet.
    std::vector<Asked> asked_for(const std::vector<Light>& lights, const GradedLights& graded,
                                 const Calibrations& calibrations) {
        std::vector<Asked> out;
        for (const Light& l : lights) {
            if (!wanted(*l.exposure) || l.verdict.keep == o_.dropped) continue;
            if (!l.measures) {
                leave(l, l.problem);
                continue;
            }
            if ((o_.registered || o_.blank) && !l.registration) {
                leave(l, l.registration.text);
                continue;
            }
            std::string key = key_of(l, graded, calibrations);
            if (is_there(place_of(*l.exposure), key))
                ++report_.there_already;
            else
                out.push_back({&l, std::move(key)});
        }
        return out;
    }

    void make(const Light& l, const std::string& key, const GradedLights& graded, Calibrations& calibrations) {
        const RejectedLights* const rejected = o_.blank ? joint().rejected.get() : nullptr;
        if (rejected && !rejected->has(l)) return leave(l, "it could not be integrated with the others");
        const fs::path file = place_of(*l.exposure);
        Image image;
        std::int64_t blanked = 0;
        const auto failure = attempt([&] {
            const auto view =
                calibrations.view(*l.plan, std::shared_ptr<const OwnCorrections>(l.measures, &l.measures->own));
            if (o_.registered) {
                image = registered(view, l, graded.canvas);
                if (rejected) blanked = rejected->blank_registered(l, graded.canvas, image);
                return;
            }
            const CalibratedPlanes planes(view->source());
            image = read_planes(planes);
            planes.release();
            if (rejected) blanked = rejected->blank_own(l, *view, image);
        });
        if (failure) return leave(l, failure->what_failed);
        std::error_code failed;
        fs::create_directories(file.parent_path(), failed);
        write(file, image, account(l, graded, image, blanked), l, key);
        report_.blanked += blanked;
        ++report_.written;
    }

    /// Each plane by its own transform: of a mosaic they may differ.
    Image registered(const std::shared_ptr<const FrameView>& view, const Light& l, const Canvas& canvas) const {
        std::vector<double> noise;
        for (const Measures& m : l.measures->planes)
            noise.push_back(m.noise);
        const Context& context = project_.session.context;
        RegriddedImage all = regrid(view, l.to_frame.front(), canvas, noise, context);
        for (std::size_t p = 1; p < l.to_frame.size(); ++p) {
            const RegriddedImage own = regrid(view, l.to_frame[p], canvas, noise, context);
            const View<const float> from = own.pixels.plane(static_cast<int>(p));
            std::copy(from.data, from.data + canvas.bounds().area(), all.pixels.plane(static_cast<int>(p)).data);
        }
        return std::move(all.pixels);
    }

    /// A master light to be, and what is rejected for it.
    struct Joint {
        JointStack stack;
        std::string basis; ///< what that rests on, as a digest
        std::unique_ptr<const RejectedLights> rejected;
    };

    /// The stacks of a group, none of which is integrated before one of its lights is to be written.
    void settle_rejection(const ReferenceGroup& group, Calibrations& calibrations, const GradedLights& graded) {
        Session& s = project_.session;
        joints_.clear();
        at_ = canvas_of_group(s, graded);
        assembler_.emplace(s, group, calibrations, graded, at_);
        for (JointStack& j : joint_stacks(s, group)) {
            const std::string basis = stack_basis(s, calibrations, group, j, graded.reference_fingerprint).key();
            joints_.push_back({std::move(j), basis, nullptr});
        }
    }

    /// That of the stack at work.
    Joint& joint() {
        return *std::find_if(joints_.begin(), joints_.end(), [&](const Joint& j) {
            return std::find(j.stack.parts.begin(), j.stack.parts.end(), stack_) != j.stack.parts.end();
        });
    }
    void reject() {
        Joint& j = joint();
        if (j.rejected) return;
        for (Joint& other : joints_)
            if (std::none_of(other.stack.parts.begin(), other.stack.parts.end(),
                             [&](std::size_t part) { return part >= stack_; }))
                other.rejected.reset(); // all its lights are written
        j.rejected = std::make_unique<RejectedLights>(project_.session, *assembler_, j.stack, at_, o_.to);
    }

    std::string master_name(const std::optional<std::size_t>& m) const {
        return m ? project_.session.pairing.masters[*m].name : "none";
    }

    std::vector<std::string> account(const Light& l, const GradedLights& graded, const Image& image,
                                     std::int64_t blanked) {
        std::vector<std::string> out = {fmt::format("calibrate: {}: dark {}, bias {}, flat {}; defects replaced",
                                                    l.exposure->path, master_name(l.plan->dark),
                                                    master_name(l.plan->bias), master_name(l.plan->flat))};
        if (o_.registered)
            out.push_back(fmt::format("register: onto the grid of {}, {} stars, {:.3f} px; Lanczos-3",
                                      graded.reference_path, l.registration->matched, l.registration->rms));
        if (o_.blank)
            out.push_back(fmt::format("reject: {:.2g} % of its pixels are without data: {}",
                                      100.0 * static_cast<double>(blanked) / static_cast<double>(image.pixels().size()),
                                      joint().rejected->text()));
        return out;
    }

    void write(const fs::path& file, const Image& image, const std::vector<std::string>& lines, const Light& l,
               const std::string& key) const {
        if (o_.tiff) {
            write_tiff(file, image, TiffSamples::float_32,
                       {fmt::format("{}\nADU\nexported {}", fmt::join(lines, "\n"), key), {}});
            return;
        }
        const Exposure& e = *l.exposure;
        Header h = exported_header(read_summary(project_.session.options.folder / e.path).header, false);
        h.set("CREATOR", kCreator, "program that made this file");
        // What other formats say in their own words, and what is so of the pixels as they stand here.
        h.set("IMAGETYP", "Light", "kind of exposure");
        if (!e.target.empty() && !h.find("OBJECT")) h.set("OBJECT", e.target, "target");
        if (!e.filter.empty() && !h.find("FILTER")) h.set("FILTER", e.filter, "filter");
        if (!e.start.empty() && !h.find("DATE-OBS")) h.set("DATE-OBS", e.start, "start, UTC");
        if (e.seconds && !h.find("EXPTIME")) h.set("EXPTIME", *e.seconds, "[s]");
        if (!e.camera.empty() && !h.find("INSTRUME")) h.set("INSTRUME", e.camera, "camera");
        if (!e.telescope.empty() && !h.find("TELESCOP")) h.set("TELESCOP", e.telescope, "telescope");
        if (!o_.registered && !e.cfa.empty()) h.set("BAYERPAT", e.cfa, "colours of the first pixels, rows from above");
        if (o_.registered && sky_) write_world(h, *sky_, image.width(), image.height());
        if (!o_.registered && e.world) write_world(h, *e.world, image.width(), image.height());
        h.set("ROWORDER", "TOP-DOWN", "the first row is the upper one");
        h.set("BUNIT", "ADU", "above the offset");
        h.set("EXPORTED", key, "what made this file");
        for (const std::string& line : lines)
            h.add_history(line);
        write_fits(file, {{image.plane(), h, {}, image.planes()}});
    }

    const FrameExportOptions& o_;
    OpenProject project_;
    FrameExportReport report_;
    std::optional<WorldCoordinates> sky_; ///< of the grid that is at work
    GroupCanvas at_;                      ///< and that of its master lights
    std::optional<Assembler> assembler_;
    std::vector<Joint> joints_;
    std::size_t stack_ = 0; ///< at work, of the pairing
};

} // namespace

FrameExportReport export_frames(const FrameExportOptions& options, const Context& context) {
    return Exporting(options, context).run();
}

} // namespace kasane
