#include <kasane/stages/composites.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/base/parallel.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/integration/composite.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/png.hpp>
#include <kasane/io/world_coordinates.hpp>
#include <kasane/ledger/keys.hpp>
#include <kasane/ledger/record_json.hpp>
#include <kasane/stages/joint_stacks.hpp>
#include <kasane/stages/results.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numeric>
#include <optional>
#include <set>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// A plane of a master light.
struct Part {
    const StackReport* stack = nullptr;
    int plane = 0;
    double noise = 0; ///< ADU
    CompositePart as;

    std::string text() const {
        static const char* kColours[] = {" red", " green", " blue"};
        return stack->name + (stack->colour_noise.size() == 3 ? kColours[plane] : "");
    }
};

std::vector<Part> parts_of(const StackReport& s) {
    if (s.colour_noise.size() != 3) return {{&s, 0, s.noise, {}}};
    std::vector<Part> out;
    for (int p = 0; p < 3; ++p)
        out.push_back({&s, p, s.colour_noise[static_cast<std::size_t>(p)], {}});
    return out;
}

/// Those that make it; why not, where nothing can.
std::vector<Part> chosen(CompositeKind kind, const std::vector<StackReport>& stacks, std::string& why) {
    std::vector<Part> out;
    std::set<std::string> filters;
    bool colours = false;
    for (const StackReport& s : stacks) {
        if (s.file.empty() || !(s.noise > 0)) continue;
        const std::string filter = fold_filter(s.filter);
        const bool mosaic = s.colour_noise.size() == 3;
        if (kind == CompositeKind::luminance && !mosaic && filter != "L" && filter != "R" && filter != "G" &&
            filter != "B")
            continue;
        for (Part& p : parts_of(s))
            out.push_back(std::move(p));
        filters.insert(filter);
        colours = colours || mosaic;
    }
    if (kind == CompositeKind::luminance) {
        const bool all = colours || (filters.count("R") && filters.count("G") && filters.count("B"));
        if (!all) why = "it takes master lights of R, G and B, or of a colour sensor";
    } else if (out.size() < 2) {
        why = "there is only one master light";
    }
    return why.empty() ? out : std::vector<Part>{};
}

/// What all names begin with, word by word.
std::string name_of(CompositeKind kind, const std::vector<Part>& parts) {
    std::string name = parts.front().stack->name;
    for (const Part& p : parts)
        name = common_words(name, p.stack->name);
    if (name.empty()) name = parts.front().stack->target.empty() ? "lights" : squeezed(parts.front().stack->target);
    return fmt::format("{}-{}", name, composite_name(kind));
}

std::string folder_of(const Session& s) {
    return s.options.preview ? "previews/" : "lights/";
}

Basis basis_of(const Session& s, CompositeKind kind, const std::string& name, const std::vector<Part>& parts) {
    Provenance planned;
    Provenance::Step& step = planned.step("combine");
    step.set("name", name);
    step.set("kind", std::string(composite_name(kind)));
    for (const Part& p : parts)
        step.inputs.push_back(
            {Provenance::Input::Kind::master, s.ledger.choice("file/" + p.stack->file).value_or(""), p.text(), {}});
    return Basis("composite", std::move(planned));
}

std::optional<CompositeReport> finished(const Session& s, const std::string& file, const std::string& key) {
    const auto body = s.ledger.fact(key);
    if (!body || s.ledger.choice("file/" + file).value_or("") != key) return std::nullopt;
    try {
        auto report = nlohmann::json::parse(*body).at("report").get<CompositeReport>();
        report.reused = true;
        if (is_intact(s, s.output / file) && is_intact(s, s.output / report.preview)) return report;
    } catch (const nlohmann::json::exception&) { // a record of another version
    }
    return std::nullopt;
}

class Work {
public:
    Work(Session& s, const CompositePlan& plan, const std::vector<StackReport>& stacks)
        : s_(s), plan_(plan), kind_(plan.kind) {
        for (const auto& [stack, plane] : plan.parts)
            parts_.push_back(parts_of(stacks[stack])[static_cast<std::size_t>(plane)]);
        report_.kind = std::string(composite_name(kind_));
        report_.name = plan.name;
        report_.file = plan.file;
        report_.preview = folder_of(s) + plan.name + ".png";
    }

    CompositeReport make() {
        require_free_place();
        const Stopwatch clock;
        if (kind_ == CompositeKind::luminance)
            scale_to_stars();
        else
            scale_to_noise();
        write(combine());
        report_.time = clock.seconds();
        const std::string key = plan_.basis->key();
        s_.ledger.set_choice("file/" + report_.file, key); // first: it is no longer what it was before
        remember_intact(s_, s_.output / report_.file);
        remember_intact(s_, s_.output / report_.preview);
        s_.ledger.set_fact(key, json_text({{"report", report_}}));
        if (!s_.options.preview) s_.ledger.set_choice("basis/" + report_.file, plan_.basis->text());
        return std::move(report_);
    }

private:
    /// What is not ours stays, and that is no reason to lose what else was made.
    void require_free_place() const {
        try {
            require_replaceable(s_.output / report_.file);
            require_replaceable(s_.output / report_.preview);
        } catch (const OutputError& e) {
            throw DataError(e.what(), {}, {});
        }
    }

    Image pixels_of(const Part& p) const { return read_plane(*open_fits(s_.output / p.stack->file), p.plane); }

    /// The one with the least noise keeps its own scale.
    void scale_to_noise() {
        const auto least = std::min_element(parts_.begin(), parts_.end(),
                                            [](const Part& a, const Part& b) { return a.noise < b.noise; });
        for (Part& p : parts_)
            p.as.factor = least->noise / p.noise;
        report_.text = "each scaled to the same noise";
    }

    /// The one in which stars stand out most keeps its own scale.
    void scale_to_stars() {
        std::size_t lead = 0;
        StarList stars;
        for (std::size_t k = 0; k < parts_.size(); ++k) {
            StarList here = detect_stars(pixels_of(parts_[k]).plane());
            if (here.stars.size() <= stars.stars.size()) continue;
            lead = k;
            stars = std::move(here);
        }
        const Image image = pixels_of(parts_[lead]);
        bool all = true;
        for (Part& p : parts_) {
            const double ratio = flux_ratio(image.plane(), stars, pixels_of(p).plane());
            all = all && ratio > 0;
            p.as.factor = ratio;
        }
        for (Part& p : parts_) {
            if (!all) p.as.factor = 1;
            p.as.weight = 1 / std::pow(p.as.factor * p.noise, 2);
        }
        double sum = 0;
        for (const Part& p : parts_)
            sum += p.as.weight;
        for (Part& p : parts_)
            p.as.weight /= sum;
        report_.text = all ? "each scaled to the same flux of stars, weighed by the inverse variance"
                           : "weighed by the inverse variance; too few stars are in all of them to bring them to one "
                             "scale";
    }

    CompositeImage combine() {
        std::optional<Composite> composite;
        double squares = 0, weights = 0;
        std::set<std::string> counted;
        for (Part& p : parts_) {
            const Image pixels = pixels_of(p);
            const Image coverage = read_plane(*open_fits(s_.output / p.stack->file, "COVERAGE"), p.plane);
            if (!composite) composite.emplace(pixels.width(), pixels.height());
            p.as.background = measure_background(pixels.plane()).global_level;
            composite->add(pixels.plane(), coverage.plane(), p.as);
            squares += std::pow(p.as.weight * p.as.factor * p.noise, 2);
            weights += p.as.weight;
            if (counted.insert(p.stack->name).second) report_.seconds_total += p.stack->seconds_total;
        }
        report_.noise = std::sqrt(squares) / weights;
        for (const Part& p : parts_)
            report_.parts.push_back({p.text(), p.as.factor, p.as.weight / weights});
        return composite->finish();
    }

    void write(const CompositeImage& image) {
        const Part& first = parts_.front();
        const auto reader = open_fits(s_.output / first.stack->file);
        Header out;
        // What is so of the canvas and of the instrument.
        static const std::set<std::string> kOfAll = {
            "CREATOR", "IMAGETYP", "ROWORDER", "BUNIT",   "OBJECT",  "INSTRUME", "TELESCOP", "FOCALLEN",
            "XPIXSZ",  "REFERENC", "REFPRINT", "CNVORGX", "CNVORGY", "CNVTURN",  "CNVMIRR",  "SCALED"};
        for (const Card& c : reader->header().cards())
            if (kOfAll.count(c.key)) out.add(c);
        if (const auto world = read_world(reader->header()))
            write_world(out, *world, image.pixels.width(), image.pixels.height());
        out.set("FILTER", std::string(composite_name(kind_)), "made of several master lights");
        out.set("EXPTIME", report_.seconds_total, "[s] of all frames of all of them together");
        out.set("NOISE", report_.noise, "[ADU] background, by that of its parts");
        out.set("NPARTS", static_cast<long long>(parts_.size()), "master lights, or planes of them");
        for (const Part& p : parts_)
            out.add_history(fmt::format("of {}: background {:.4g}, times {:.5g}, weight {:.4f}", p.text(),
                                        p.as.background, p.as.factor, p.as.weight));
        out.add_history(report_.text);
        Header c;
        c.set("BUNIT", "relative", "share of the whole weight that each pixel received");
        fs::create_directories((s_.output / report_.file).parent_path());
        write_fits(s_.output / report_.file,
                   {{image.pixels.plane(), out, {}, 1}, {image.coverage.plane(), c, "COVERAGE", 1}});
        write_png(s_.output / report_.preview, render_planes(image.pixels, choose_stretches(image.pixels)));
    }

    Session& s_;
    const CompositePlan& plan_;
    CompositeKind kind_;
    std::vector<Part> parts_;
    CompositeReport report_;
};

} // namespace

std::vector<CompositePlan> plan_composites(const Session& s, const std::vector<StackReport>& stacks) {
    std::vector<CompositePlan> out;
    for (const CompositeKind kind : s.recipe.integration.also) {
        CompositePlan plan;
        plan.kind = kind;
        const std::vector<Part> parts = chosen(kind, stacks, plan.why_not);
        if (!parts.empty()) {
            plan.name = name_of(kind, parts);
            plan.file = folder_of(s) + plan.name + ".fits";
            for (const Part& p : parts)
                plan.parts.emplace_back(p.stack - stacks.data(), p.plane);
            plan.basis = basis_of(s, kind, plan.name, parts);
            plan.done = finished(s, plan.file, plan.basis->key());
        }
        out.push_back(std::move(plan));
    }
    return out;
}

void make_composites(Session& s, const std::vector<StackReport>& stacks) {
    for (const CompositePlan& plan : plan_composites(s, stacks)) {
        const auto tell = [&](const std::string& text) {
            const std::string target = stacks.empty() ? std::string() : stacks.front().target;
            s.report.findings.push_back({Level::warning,
                                         "composite-not-made",
                                         {},
                                         fmt::format("no {} of {}: {}", composite_name(plan.kind),
                                                     target.empty() ? "these lights" : target, text),
                                         "It is asked for by also in [integration]"});
        };
        if (!plan.basis) {
            tell(plan.why_not);
            continue;
        }
        try {
            s.report.composites.push_back(plan.done ? *plan.done : Work(s, plan, stacks).make());
        } catch (const InputError& e) {
            tell(e.what());
        } catch (const DataError& e) {
            tell(e.what());
        } catch (const UsageError& e) { // masters of another size
            tell(e.what());
        }
    }
}

} // namespace kasane
