#include "rows.hpp"
#include "simulated.hpp"

#include <kasane/io/fits.hpp>
#include <kasane/project/check.hpp>
#include <kasane/sky/random.hpp>

#include <chrono>
#include <cstring>
#include <fcntl.h>
#include <fmt/format.h>
#include <fstream>
#include <unistd.h>

namespace fs = std::filesystem;

namespace kasane::bench {

namespace {

constexpr int kWidth = 64, kHeight = 48;

/// One kind of file, written once in full and then again with other noise and another time.
struct Stamp {
    std::string bytes;
    std::size_t time_at, data_at;

    Stamp(const fs::path& folder, const char* type, const char* filter, double seconds) {
        Header h;
        h.set("IMAGETYP", type);
        h.set("EXPTIME", seconds);
        h.set("DATE-OBS", "2031-03-12T20:00:00");
        if (*filter) h.set("FILTER", filter);
        h.set("GAIN", 100LL);
        h.set("OFFSET", 50LL);
        h.set("CCD-TEMP", -10.0);
        h.set("SET-TEMP", -10.0);
        h.set("INSTRUME", "Simulated mono camera");
        h.set("TELESCOP", "Simulated 480 mm refractor");
        h.set("OBJECT", "Paper Lantern Nebula");
        h.set("SITELONG", 15.0);
        const fs::path file = folder / "stamp.fits";
        write_fits_u16(file, Raster<std::uint16_t>(kWidth, kHeight, 1, 1000).plane(), h, Over::anything);
        std::ifstream in(file, std::ios::binary);
        bytes.assign(std::istreambuf_iterator<char>(in), {});
        fs::remove(file);
        time_at = bytes.find("2031-03-12T20");
        data_at = bytes.size() - (kWidth * kHeight * 2 + 2879) / 2880 * 2880;
    }

    void write(const fs::path& file, int number, int level, sky::Random& random) {
        const std::string time = fmt::format("2031-03-{:02}T{:02}:{:02}:{:02}", 12 + number / 1000 % 15,
                                             19 + number / 300 % 4, number / 60 % 60, number % 60);
        bytes.replace(time_at, time.size(), time);
        for (int i = 0; i < kWidth * kHeight; ++i) {
            const auto v = static_cast<std::uint16_t>((level + static_cast<int>(random.bits() % 64)) ^ 0x8000);
            bytes[data_at + 2 * static_cast<std::size_t>(i)] = static_cast<char>(v >> 8);
            bytes[data_at + 2 * static_cast<std::size_t>(i) + 1] = static_cast<char>(v & 0xff);
        }
        std::ofstream(file, std::ios::binary) << bytes;
    }
};

template <class Work>
double seconds(Work work) {
    const auto start = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

} // namespace

std::vector<Row> gathering(int files, const Context& context) {
    const TemporaryFolder folder;
    std::vector<fs::path> all;
    {
        sky::Random random(3);
        Stamp light(folder.path(), "Light", "L", 120), flat(folder.path(), "Flat", "L", 2),
            dark(folder.path(), "Dark", "", 120), bias(folder.path(), "Bias", "", 0);
        for (int i = 0; i < files; ++i) {
            const fs::path night = folder.path() / fmt::format("night-{}", i * 15 / files);
            fs::create_directories(night);
            all.push_back(night / fmt::format("frame_{:06}.fits", i));
            const int kind = i % 20;
            Stamp& stamp = kind == 0 ? bias : kind == 1 ? dark : kind == 2 ? flat : light;
            stamp.write(all.back(), i, &stamp == &flat ? 26000 : &stamp == &light ? 1500 : 500, random);
        }
    }
    const auto read_blocks = [&] {
        context.workers.for_each(all.size(), [&](std::size_t i) {
            char block[2880];
            const int fd = ::open(all[i].c_str(), O_RDONLY | O_CLOEXEC);
            if (fd < 0 || ::read(fd, block, sizeof block) != sizeof block) throw std::runtime_error("no header block");
            ::close(fd);
        });
    };
    read_blocks(); // a warm cache
    const double plain = seconds(read_blocks);
    const RunOptions options{folder.path(), {}, {}};
    const auto scan = [&] {
        Ledger ledger(memory_folder(options), Ledger::Use::look);
        const Scan s = scan_folder({folder.path(), folder.path() / "kasane", {}}, ledger, context);
        if (static_cast<int>(s.exposures.size()) != files) throw std::runtime_error("files were lost");
    };
    const double first = seconds(scan), again = seconds(scan);
    const double first_check = seconds([&] { check_project(options, context); });
    const double check = seconds([&] { check_project(options, context); });
    const std::string n = fmt::format("{} files", files);
    const auto ratio = [&](double t) { return t / plain; };
    return {
        {"G1", "first scan: files a second, warm cache, " + n, files / first, "/s", 1500, true},
        {"G1", "first scan over opening and reading the first header block of " + n, ratio(first), "x",
         files / 1500.0 / plain, false},
        {"G2", "scan again, nothing changed, " + n, again, "s", 0.3, false},
        {"G2", "scan again over opening and reading the first header block", ratio(again), "x", 0.3 / plain, false},
        {"G3", "check, first time (a look at the pixels of all lights and flats)", first_check, "s", files / 1500.0,
         false},
        {"G3", "check of " + n, check, "s", 1, false},
        {"G3", "check over opening and reading the first header block", ratio(check), "x", 1 / plain, false},
    };
}

} // namespace kasane::bench
