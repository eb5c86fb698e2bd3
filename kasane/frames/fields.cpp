#include <kasane/frames/fields.hpp>

#include <array>

namespace kasane {

namespace {

const std::array<FieldEntry, kFields>& field_table() {
    static const std::array<FieldEntry, kFields> table = {{
        {"role",
         "light, dark, flat, bias or dark flat",
         {"IMAGETYP", "IMAGETYPE", "OBSTYPE", "FRAME", "FRAMETYP", "IMGTYPE", "EXPTYPE", "OBS-TYPE", "PICTTYPE"}},
        {"master", "true for a combination of many frames", {}},
        {"target", "what was photographed", {"OBJECT", "OBJNAME", "TARGET", "TARGNAME"}},
        {"filter", "filter", {"FILTER", "FILTER1", "FILTERID", "FILTNAME", "FILTNAM", "FILT", "FWFILTER", "INSFILTE"}},
        {"seconds",
         "[s] exposure time",
         {"EXPTIME", "EXPOSURE", "XPOSURE", "EXP_TIME", "EXP-TIME", "ITIME", "INTTIME", "TELAPSE",
          "Exif.ExposureTime"}},
        {"gain",
         "gain setting of the camera, or ISO800",
         {"GAIN", "ISOSPEED", "ISO", "GAINRAW", "CCDGAIN", "Exif.ISOSpeedRatings"}},
        {"offset", "offset setting of the camera", {"OFFSET", "BLKLEVEL", "BLACKLEV", "CCDOFFST", "OFFSETRW"}},
        {"temperature",
         "[degC] sensor temperature",
         {"CCD-TEMP", "CCDTEMP", "CCD_TEMP", "DET-TEMP", "DETTEMP", "SENSTEMP", "SENSORT", "TEMPERAT", "CAM-TEMP",
          "Raw.SensorTemperature", "Exif.AmbientTemperature"}},
        {"temperature_set",
         "[degC] sensor temperature asked for",
         {"SET-TEMP", "SETTEMP", "SET_TEMP", "CCD-TSET", "CCDTSET", "TEMP-SET", "TEMPSET"}},
        {"binning", "binning, 2 or 2x2", {}},
        {"cfa",
         "colours of the first pixels, RGGB; mono for none",
         {"BAYERPAT", "CFAPAT", "CFA-PAT", "COLORTYP", "BAYER", "CFATYPE", "MOSAIC", "Raw.CfaPattern"}},
        {"start", "start of the exposure, UTC", {"DATE-OBS", "DATE-BEG", "DATE_OBS", "DATEOBS", "DATE-STA"}},
        {"start_local",
         "start of the exposure by the local clock",
         {"DATE-LOC", "DATELOC", "LOC-DATE", "Exif.DateTimeOriginal", "Exif.DateTime"}},
        {"night", "date on which the night began, or a name for it", {}},
        {"camera", "camera", {"INSTRUME", "CAMERA", "CAMNAME", "CAMMODEL", "DETECTOR", "DETNAM", "Exif.Model"}},
        {"telescope", "telescope or lens", {"TELESCOP", "TELNAME", "LENS", "Exif.LensModel"}},
        {"focal_length", "[mm] focal length", {"FOCALLEN", "FOCAL", "FOCLEN", "FLENGTH", "Exif.FocalLength"}},
        {"pixel_size", "[um] pixel size in x", {"XPIXSZ", "PIXSIZE1", "PIXSIZE", "PIXSIZEX", "XPIXSIZE", "PIXELSZ"}},
        {"electrons_per_adu", "[e-/ADU] conversion gain", {"EGAIN", "E-GAIN", "GAINADU", "GAIN_ELE", "CVF"}},
        {"saturation",
         "[ADU] level at which pixels saturate",
         {"SATURATE", "SATLEVEL", "SATURATI", "MAXADU", "MAXLIN", "WHITELEV", "Raw.WhiteLevel"}},
        {"black_level", "[ADU] level without light, as the camera states it", {"BLACKADU", "Raw.BlackLevel"}},
        {"right_ascension",
         "[deg] where the telescope points",
         {"RA", "OBJCTRA", "RA_DEG", "OBJRA", "TELRA", "CRVAL1"}},
        {"declination",
         "[deg] where the telescope points",
         {"DEC", "OBJCTDEC", "DEC_DEG", "OBJDEC", "TELDEC", "CRVAL2"}},
        {"latitude",
         "[deg] of the site, north positive",
         {"SITELAT", "OBSGEO-B", "LAT-OBS", "OBS-LAT", "LATITUDE", "GEOLAT", "SITE-LAT"}},
        {"longitude",
         "[deg] of the site, east positive",
         {"SITELONG", "OBSGEO-L", "LONG-OBS", "OBS-LONG", "LONGITUD", "GEOLON", "SITE-LON", "SITELON"}},
        {"orientation", "EXIF orientation, 1 to 8", {"ORIENTAT", "Exif.Orientation"}},
        {"pier_side", "side of the pier", {"PIERSIDE", "PIER", "SIDEPIER", "MERIDIAN"}},
        {"rotator",
         "[deg] angle of the camera",
         {"ROTATANG", "ROTATOR", "ROTANGLE", "ROTPA", "POSANGLE", "OBJCTROT", "PA"}},
        {"turn", "[deg] clockwise turn to apply to the pixels: 0, 90, 180 or 270", {}},
    }};
    return table;
}

} // namespace

const FieldEntry& field_entry(Field field) {
    return field_table()[static_cast<std::size_t>(field)];
}

std::string_view field_name(Field field) {
    return field_entry(field).name;
}

std::optional<Field> field_named(std::string_view name) {
    for (int i = 0; i < kFields; ++i)
        if (field_name(static_cast<Field>(i)) == name) return static_cast<Field>(i);
    return std::nullopt;
}

std::string_view field_meaning(Field field) {
    return field_entry(field).meaning;
}

} // namespace kasane
