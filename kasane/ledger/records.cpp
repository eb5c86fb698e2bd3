#include <kasane/ledger/records.hpp>

#include <kasane/ledger/record_json.hpp>

#include <algorithm>

namespace kasane {

using nlohmann::json;

std::string json_text(const json& j, int indent) {
    return j.dump(indent, ' ', false, json::error_handler_t::replace);
}

bool RunReport::clean() const {
    const bool findings_clean =
        std::all_of(findings.begin(), findings.end(), [](const Finding& f) { return f.level == Level::note; });
    return findings_clean &&
           std::all_of(stacks.begin(), stacks.end(), [](const StackReport& s) { return s.dropped == 0; });
}

} // namespace kasane
