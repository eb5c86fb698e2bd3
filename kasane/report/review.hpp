// The review page: measures through the night, limits set by eye, pictures, verdicts by hand.
#pragma once

#include <kasane/project/grade.hpp>
#include <kasane/project/watch.hpp>

#include <memory>
#include <string>

namespace kasane {

/// All that the page shows of a project: measures, verdicts, distributions, what exposures are worth.
nlohmann::json review_data(const GradeReport& report);

/// The brightest stars of an exposure as [x, y, fwhm, eccentricity, angle, saturated].
nlohmann::json review_stars(const FrameGrade& frame, std::size_t most);

/// Where samples of an exposure were rejected when its master light was made last: {cell, columns, rows, runs:
/// [[squares, share below, share above], ...]}, shares of 255, row by row; null if that is not known.
nlohmann::json review_rejected(const FrameGrade& frame);

/// A star with its profile and fit.
nlohmann::json star_json(const StarLook& look);

/// The page as one self-contained file, with small previews in it; verdicts can be tried and exported as text. Throws
/// UsageError if nothing could be measured.
std::string review_file(const GradedProject& project);

/// Serves the page on the loopback interface.
///
/// Every address begins with a random token; requests without it, with another Host, or from another origin are
/// refused. Exposures are named by number, so that no path ever comes from outside. What is accepted on the page is
/// written to verdicts.toml and kasane.toml, and each acceptance can be undone.
class ReviewServer {
public:
    /// @param port  0: any free one. Throws OutputError if it is taken, and as GradedProject does.
    ReviewServer(const GradeOptions& options, const Context& context, int port = 0);
    /// Of a project that was graded with previews; options and context as it was.
    ReviewServer(std::shared_ptr<GradedProject> project, const GradeOptions& options, const Context& context,
                 int port = 0);
    ~ReviewServer();
    ReviewServer(const ReviewServer&) = delete;
    ReviewServer& operator=(const ReviewServer&) = delete;

    /// "http://127.0.0.1:PORT/TOKEN/"
    std::string address() const;
    /// Serves until stop() is called or the context's work is cancelled.
    void serve();
    void stop();
    /// While a night goes on: the page offers the lights that came since, and shows how the master lights grow. From
    /// any thread.
    void show(const WatchNews& news);

private:
    struct Service;
    std::unique_ptr<Service> service_;
};

} // namespace kasane
