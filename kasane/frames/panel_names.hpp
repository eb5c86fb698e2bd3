// What people call the panels of a mosaic: "Paper Lantern Nebula panel 3", "Lantern_P2", "Lantern R1C2", "Lantern 2-1".
#pragma once

#include <string>

namespace kasane {

struct PanelName {
    std::string target; ///< without the panel
    std::string panel;  ///< "3", "2-1", "R1C2"; empty: the name says nothing of panels
};

/// Splits the name of a target. A catalogue number is no panel: after a bare name only two single digits are one
/// ("2-1", "2x1"), one digit alone never.
PanelName panel_of_name(const std::string& target);

} // namespace kasane
