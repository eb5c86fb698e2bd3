#include "general_chain.hpp"

#include <kasane/calibration/frame_view.hpp>

#include <opencv2/core.hpp>
#include <opencv2/imgproc.hpp>

namespace kasane::bench {

namespace {

cv::Mat read_whole(const FrameReader& reader) {
    cv::Mat out(reader.height(), reader.width(), CV_32F);
    reader.read(reader.bounds(), View<float>{out.ptr<float>(), out.cols, out.rows, out.cols}, 0);
    return out;
}

/// Mean over the samples that count.
cv::Mat mean_of(const std::vector<cv::Mat>& samples, const std::vector<cv::Mat>& counts) {
    cv::Mat sum = cv::Mat::zeros(samples.front().size(), CV_32F), count = sum.clone();
    for (std::size_t k = 0; k < samples.size(); ++k) {
        sum += samples[k].mul(counts[k]);
        count += counts[k];
    }
    cv::Mat mean;
    cv::divide(sum, cv::max(count, 1), mean);
    return mean;
}

} // namespace

double general_chain(const std::vector<StackFrame>& frames, int width, int height) {
    cv::setNumThreads(2);
    std::vector<cv::Mat> samples, counts;
    for (const StackFrame& f : frames) {
        const CalibratedView& view = dynamic_cast<const FrameView&>(*f.source).source();
        cv::Mat frame = read_whole(view.raw());
        const CalibrationSet& masters = view.calibration();
        frame -= read_whole(*masters.dark);
        cv::divide(frame, read_whole(*masters.flat), frame, masters.flat_level[0]);
        const Affine t = f.planes.front().to_frame.at({0.5 * (width - 1), 0.5 * (height - 1)});
        const cv::Mat map = (cv::Mat_<double>(2, 3) << t.a, t.b, t.c, t.d, t.e, t.f);
        cv::Mat warped;
        cv::warpAffine(frame, warped, map, {width, height}, cv::INTER_LANCZOS4 | cv::WARP_INVERSE_MAP,
                       cv::BORDER_CONSTANT, 0);
        warped = warped * f.planes.front().level.scale.value + f.planes.front().level.offset.value;
        samples.push_back(std::move(warped));
        counts.push_back(cv::Mat::ones(height, width, CV_32F));
    }
    constexpr int kRounds = 3;
    constexpr double kSigmas = 3;
    for (int round = 0; round < kRounds; ++round) {
        const cv::Mat mean = mean_of(samples, counts);
        std::vector<cv::Mat> squares;
        for (const cv::Mat& s : samples) {
            cv::Mat off = s - mean;
            squares.push_back(off.mul(off));
        }
        cv::Mat limit = mean_of(squares, counts) * (kSigmas * kSigmas);
        for (std::size_t k = 0; k < samples.size(); ++k) {
            cv::Mat inside;
            cv::compare(squares[k], limit, inside, cv::CMP_LE);
            inside.convertTo(counts[k], CV_32F, 1.0 / 255);
        }
    }
    return static_cast<double>(mean_of(samples, counts).at<float>(height / 2, width / 2));
}

} // namespace kasane::bench
