#include <kasane/project/watch.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/file_stamp.hpp>
#include <kasane/geometry/framing.hpp>
#include <kasane/stages/folder_walk.hpp>
#include <kasane/stages/session.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <thread>

namespace fs = std::filesystem;

namespace kasane {

namespace {

constexpr double kHour = 3600; // seconds

/// The canvas of the picture: what the reference shows, or, of a mosaic, everything; its longer side at most `most`.
Canvas canvas_of(const StackGrade& stack, int most) {
    FramingOptions options;
    std::vector<FramedFrame> frames;
    bool panels = false;
    for (const FrameGrade& f : stack.frames) {
        if (!f.to_frame || !f.measures || !f.verdict.keep) continue;
        frames.push_back({*f.to_frame, f.measures->width, f.measures->height});
        panels = panels || !f.panel.empty();
    }
    if (panels) options.frame = Framing::everything;
    const Canvas whole = frame_canvas(options, stack.width, stack.height, frames);
    options.scale = std::min(1.0, static_cast<double>(most) / std::max(whole.width, whole.height));
    return frame_canvas(options, stack.width, stack.height, frames);
}

/// Whether a canvas shows the middle of every light that is kept: dithering alone makes no other canvas of a mosaic.
bool shows(const Canvas& canvas, const StackGrade& stack) {
    const Affine onto = canvas.to_reference().inverse();
    for (const FrameGrade& f : stack.frames) {
        if (!f.to_frame || !f.measures || !f.verdict.keep) continue;
        const Point middle = f.to_frame->unmap({0.5 * (f.measures->width - 1), 0.5 * (f.measures->height - 1)});
        double x = 0, y = 0;
        onto.apply(middle.x, middle.y, x, y);
        if (!(x >= 0 && y >= 0 && x < canvas.width && y < canvas.height)) return false;
    }
    return true;
}

/// In order of time, those without one first.
std::vector<std::size_t> by_time(const StackGrade& stack) {
    std::vector<std::size_t> order(stack.frames.size());
    for (std::size_t i = 0; i < order.size(); ++i)
        order[i] = i;
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return stack.frames[a].time.value_or(0) < stack.frames[b].time.value_or(0);
    });
    return order;
}

} // namespace

Watch::Watch(const GradeOptions& options, const Context& first, const WatchOptions& watch)
    : options_(options), watch_(watch), first_(first), quiet_{first.workers, first.memory, silence_, first.scratch} {
    require_exposure_folder(options_.run.folder);
    recipe_of(options_.run);
    for (const auto* list : {&options_.limits, &options_.more})
        for (const std::string& text : *list)
            parse_limit(text);
}

Watch::Listing Watch::list() const {
    Listing out;
    Scan ignored;
    Recipe recipe;
    fs::path output;
    try {
        recipe = recipe_of(options_.run);
        output = output_of(options_.run, recipe);
    } catch (const Error&) { // told by the next look; then the recipe is changed
        output = options_.run.output;
    }
    FolderWalk walk(output, recipe.rules, ignored);
    walk.all(options_.run.folder, {});
    for (const FoundFile& f : walk.sorted())
        out.emplace(f.path, f.stamp.text());
    for (const fs::path& file : {recipe_file(options_.run.folder), verdict_file(options_.run.folder)})
        if (const auto stamp = file_stamp(file)) out.emplace("/" + file.filename().string(), stamp->text());
    return out;
}

void Watch::wait() {
    using Clock = std::chrono::steady_clock;
    const auto pause = [&](Clock::duration time) {
        const auto until = Clock::now() + time;
        while (Clock::now() < until) {
            quiet_.workers.cancel().check();
            std::this_thread::sleep_for(std::min<Clock::duration>(std::chrono::milliseconds(50), until - Clock::now()));
        }
    };
    const auto begin = Clock::now();
    constexpr int kShare = 20; // of the time is spent looking at folders far away
    Listing last;
    for (bool first = true;; first = false) {
        const auto from = Clock::now();
        Listing now = list();
        const bool changed = now != seen_, still = !first && now == last;
        if (still && (changed || (failed_ && Clock::now() - begin >= watch_.retry))) return;
        last = std::move(now);
        pause(std::max<Clock::duration>(watch_.every, kShare * (Clock::now() - from)));
    }
}

void Watch::tell_lights(const GradeReport& report, WatchNews& news) {
    std::vector<std::pair<double, ArrivedLight>> arrived;
    std::map<std::string, std::string> now;
    for (const StackGrade& s : report.stacks)
        for (const FrameGrade& f : s.frames) {
            const std::string state = fmt::format("{}\n{}", f.content, f.verdict.keep ? "" : f.verdict.reason);
            now[f.path] = state;
            const auto before = told_.find(f.path);
            if (before != told_.end() && before->second == state) continue;
            // Of those that were dropped and still are, another reason is no news.
            const bool same = before != told_.end() && before->second.starts_with(f.content + "\n");
            if (same && !f.verdict.keep && before->second != f.content + "\n") continue;
            arrived.push_back({f.time.value_or(0), {s.name, s.filter, f.path, f.start, f.figures, f.verdict, same}});
        }
    std::stable_sort(arrived.begin(), arrived.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    for (auto& [time, light] : arrived)
        news.lights.push_back(std::move(light));
    told_ = std::move(now);
}

void Watch::tell_findings(const GradeReport& report, WatchNews& news) {
    std::set<std::string> now;
    for (const Finding& f : report.findings) {
        const std::string text = fmt::format("{}\n{}\n{}", f.code, fmt::join(f.files, "\n"), f.text);
        if (!findings_.count(text)) news.findings.push_back(f);
        now.insert(text);
    }
    findings_ = std::move(now);
}

GrowingMaster Watch::describe(const StackGrade& stack) const {
    GrowingMaster m;
    m.stack = stack.name;
    m.filter = stack.filter;
    double information = 0, seconds = 0, known = 0;
    for (const std::size_t i : by_time(stack)) {
        const FrameGrade& f = stack.frames[i];
        if (!f.verdict.keep) {
            ++m.dropped;
            continue;
        }
        ++m.kept;
        information += f.contribution.information;
        seconds += f.contribution.seconds;
        if (f.contribution.seconds > 0) known += f.contribution.information;
        if (information > 0) m.growth.push_back({seconds, 1 / std::sqrt(information)});
    }
    m.seconds = stack.kept.seconds;
    m.effective_seconds = stack.kept.effective_seconds;
    m.noise = stack.kept.noise;
    m.fwhm = stack.kept.fwhm;
    if (seconds > 0 && information > 0) m.noise_in_an_hour = 1 / std::sqrt(information + kHour * known / seconds);
    return m;
}

void Watch::grow(const GradedProject& project, std::size_t index, Grown& grown) const {
    const StackGrade& stack = project.report.stacks[index];
    std::map<std::string, std::size_t> there; // by key
    std::size_t leads = stack.frames.size();  // the unit, where there is none yet
    for (const std::size_t i : by_time(stack)) {
        const FrameGrade& f = stack.frames[i];
        if (f.key.empty() || !f.to_frame || !(f.scale > 0)) continue;
        there.emplace(f.key, i);
        if (leads == stack.frames.size() && f.verdict.keep) leads = i;
    }
    const std::vector<std::string> members = grown.stack.names();
    if (leads == stack.frames.size() && members.empty()) return;
    const bool mosaic =
        std::any_of(stack.frames.begin(), stack.frames.end(), [](const auto& f) { return !f.panel.empty(); });
    const bool stays = mosaic && grown.stack.canvas().width > 0 && shows(grown.stack.canvas(), stack);
    const Canvas canvas = stays ? grown.stack.canvas() : canvas_of(stack, watch_.picture);
    // Another grid, or lights that are gone: the picture is made anew, of all lights.
    const bool all_there =
        std::all_of(members.begin(), members.end(), [&](const std::string& key) { return there.count(key) != 0; });
    if (grown.reference != stack.reference || !(grown.stack.canvas() == canvas) || !there.count(grown.unit) ||
        !all_there) {
        const int version = grown.version;
        grown = {};
        grown.version = version;
        if (leads == stack.frames.size()) return;
        grown.reference = stack.reference;
        grown.unit = stack.frames[leads].key;
    }
    const double unit = stack.frames[there.at(grown.unit)].scale;
    const Affine to_reference = canvas.to_reference();
    bool changed = false;
    for (const std::string& key : grown.stack.names()) {
        if (stack.frames[there.at(key)].verdict.keep) continue;
        grown.stack.remove(key, project.stack_frame(index, there.at(key))->source, quiet_.workers);
        changed = true;
    }
    for (const std::size_t i : by_time(stack)) {
        const FrameGrade& f = stack.frames[i];
        quiet_.workers.cancel().check();
        if (!f.verdict.keep || !(f.contribution.information > 0) || there.count(f.key) == 0 || grown.stack.has(f.key))
            continue;
        try {
            auto frame = project.stack_frame(index, i);
            if (!frame) continue;
            for (StackPlane& p : frame->planes) {
                p.to_frame = p.to_frame.after(to_reference);
                p.level.scale.value /= unit;
            }
            if (grown.stack.canvas().width == 0)
                grown.stack = GrowingStack(canvas, static_cast<int>(frame->planes.size()));
            grown.stack.add(f.key, *frame, f.contribution.information * unit * unit, quiet_.workers);
            changed = true;
        } catch (const InputError&) { // it left while it was looked at; the next look will tell
        }
    }
    if (!changed) return;
    ++grown.version;
    grown.picture = std::make_shared<const Image>(grown.stack.picture());
}

WatchNews Watch::look() {
    const Stopwatch clock;
    WatchNews news;
    seen_ = list();
    failed_ = false;
    try {
        news.project = std::make_shared<GradedProject>(options_, looked_ ? quiet_ : first_);
        const GradeReport& report = news.project->report;
        tell_lights(report, news);
        tell_findings(report, news);
        std::set<std::string> names;
        for (std::size_t k = 0; k < report.stacks.size(); ++k) {
            const StackGrade& stack = report.stacks[k];
            names.insert(stack.name);
            Grown& grown = grown_[stack.name];
            try {
                grow(*news.project, k, grown);
            } catch (const Cancelled&) {
                throw;
            } catch (const DataError&) { // nothing in common with the grid: no picture
                grown = {};
            } catch (const Error&) { // a light that was to leave cannot be read, say: all anew, at the next look
                grown = {};
                failed_ = true;
            }
            GrowingMaster m = describe(stack);
            m.shown = static_cast<int>(grown.stack.names().size());
            m.version = grown.version;
            m.picture = grown.picture;
            news.masters.push_back(std::move(m));
        }
        std::erase_if(grown_, [&](const auto& g) { return names.count(g.first) == 0; });
        looked_ = true;
    } catch (const Cancelled&) {
        throw;
    } catch (const Error& e) {
        news.project = nullptr;
        news.problem = e.what();
        failed_ = true;
    }
    news.seconds = clock.seconds();
    return news;
}

} // namespace kasane
