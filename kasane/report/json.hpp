// Everything that the calls of a project return, as JSON for other programs.
#pragma once

#include <kasane/project/align.hpp>
#include <kasane/project/align_images.hpp>
#include <kasane/project/check.hpp>
#include <kasane/project/compare_images.hpp>
#include <kasane/project/export_frames.hpp>
#include <kasane/project/export_masters.hpp>
#include <kasane/project/finish.hpp>
#include <kasane/project/grade.hpp>
#include <kasane/project/run.hpp>
#include <kasane/project/watch.hpp>

#include <nlohmann/json_fwd.hpp>
#include <vector>

namespace kasane {

nlohmann::json to_json(const Exposure& exposure);
nlohmann::json to_json(const Pairing& pairing, const std::vector<Exposure>& exposures);
nlohmann::json to_json(const Finding& finding);
nlohmann::json to_json(const RunReport& report);
/// How a stack grew (StackGrowth).
nlohmann::json growth_json(const StackReport& stack);
nlohmann::json to_json(const CheckReport& report);
nlohmann::json to_json(const StatusReport& report);
nlohmann::json to_json(const ForgetReport& report);
nlohmann::json to_json(const GradeReport& report);
nlohmann::json to_json(const GrowingMaster& master);
nlohmann::json to_json(const WatchNews& news);
nlohmann::json to_json(const AlignReport& report);
nlohmann::json to_json(const ImageAlignReport& report);
nlohmann::json to_json(const CompareReport& report);
nlohmann::json to_json(const FinishReport& report);
nlohmann::json to_json(const MasterExportReport& report);
nlohmann::json to_json(const FrameExportReport& report);

} // namespace kasane
