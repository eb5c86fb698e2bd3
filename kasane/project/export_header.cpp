#include <kasane/project/export_header.hpp>

#include <kasane/base/error.hpp>
#include <kasane/io/fits.hpp>

#include <algorithm>
#include <set>

namespace fs = std::filesystem;

namespace kasane {

namespace {

bool tells_storage(const std::string& key) {
    static const std::set<std::string> keys = {"DATAMIN", "DATAMAX", "EXTNAME", "ROWORDER", "CONTINUE", "LONGSTRN"};
    return tells_layout(key) || keys.count(key) > 0;
}

/// What every file says of its format, and each is given anew.
bool tells_format(const Card& c) {
    return c.key == "COMMENT" && (c.value.find("FITS (Flexible Image Transport System)") != std::string::npos ||
                                  c.value.find("and Astrophysics', volume 376") != std::string::npos);
}

bool tells_place(const std::string& key) {
    static const char* kBegins[] = {"CRPIX", "CRVAL",   "CTYPE",    "CDELT",    "CROTA",   "CD1_", "CD2_",
                                    "PC1_",  "PC2_",    "A_",       "B_",       "AP_",     "BP_",  "PV1_",
                                    "PV2_",  "WCSAXES", "BAYERPAT", "XBAYROFF", "YBAYROFF"};
    return std::any_of(std::begin(kBegins), std::end(kBegins), [&](const char* b) { return key.starts_with(b); });
}

} // namespace

Header exported_header(const Header& original, bool place) {
    constexpr std::size_t kMostKey = 8; // of FITS; longer ones are of other formats
    Header out;
    for (const Card& c : original.cards()) {
        if (tells_storage(c.key) || tells_format(c) || c.key.size() > kMostKey || c.key.find('.') != std::string::npos)
            continue;
        if (place || !tells_place(c.key)) out.add(c);
    }
    return out;
}

void require_outside(const fs::path& project, const fs::path& to) {
    const fs::path inner = fs::weakly_canonical(fs::absolute(to)), outer = fs::weakly_canonical(fs::absolute(project));
    if (inner == outer || inner.string().starts_with(outer.string() + "/"))
        throw UsageError("lies inside the project, where its files would be taken for exposures", to,
                         "Name a folder elsewhere");
}

fs::path exported_place(const fs::path& to, const fs::path& exposure) {
    fs::path place; // files of other folders lead out of the project: their last folder tells them apart
    for (const fs::path& part : exposure.lexically_normal())
        if (part != "..") place /= part;
    return to / place.relative_path();
}

} // namespace kasane
