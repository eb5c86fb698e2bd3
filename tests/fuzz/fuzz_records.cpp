// Records of the ledger, from any bytes: the first tells which kind the rest is read as.
#include <kasane/ledger/exposure_record.hpp>
#include <kasane/ledger/record_json.hpp>
#include <kasane/stages/align_records.hpp>
#include <kasane/stages/defect_record.hpp>
#include <kasane/stages/level_records.hpp>
#include <kasane/stages/measure_record.hpp>

#include <cstdint>
#include <cstdlib>
#include <string>

namespace {

/// What was read is written and read again.
void require(bool good) {
    if (!good) std::abort();
}

template <class Report>
void read_report(const std::string& text) {
    try {
        const auto report = nlohmann::json::parse(text).get<Report>();
        (void)nlohmann::json(report).dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
    } catch (const nlohmann::json::exception&) { // all that callers expect
    }
}

} // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    using namespace kasane;
    if (size == 0) return 0;
    const std::string bytes(reinterpret_cast<const char*>(data) + 1, size - 1);
    switch (data[0]) {
    case 'e':
        if (const auto e = decode_exposure(bytes)) require(decode_exposure(encode(*e)).has_value());
        break;
    case 'l':
        if (const auto look = decode_look(bytes, false)) require(decode_look(encode(*look, false), false).has_value());
        break;
    case 'm':
        if (const auto m = decode_measures(bytes)) require(decode_measures(encode_measures(*m)) != nullptr);
        break;
    case 'd':
        if (const auto d = decode_defects(bytes))
            require(decode_defects(encode_defects(d->first, d->second)).has_value());
        break;
    case 'o':
        if (const auto o = decode_outcome(bytes)) require(decode_outcome(encode(*o)).has_value());
        break;
    case 's':
        if (const auto s = decode_solved(bytes)) require(decode_solved(encode(*s)).has_value());
        break;
    case 'v':
        if (const auto v = decode_levels(bytes)) require(decode_levels(encode(*v)).has_value());
        break;
    case 'M':
        read_report<MasterReport>(bytes);
        break;
    case 'S':
        read_report<StackReport>(bytes);
        break;
    case 'C':
        read_report<CompositeReport>(bytes);
        break;
    default:
        break;
    }
    return 0;
}
