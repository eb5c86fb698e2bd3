// Where an image comes from: the steps that made it, in order, with what decided them and what they were given.
//
// Whoever does a step adds it. The rest follows from this one account: the HISTORY of a file, the basis by which the
// ledger knows that a result is out of date, and the JSON of a report.
#pragma once

#include <functional>
#include <string>
#include <utility>
#include <vector>

namespace kasane {

struct Provenance {
    struct Input {
        enum class Kind {
            exposure, ///< a file from a camera
            master,   ///< a master that calibrates
        };
        Kind kind = Kind::exposure;
        std::string identity; ///< of its content: an exposure's digest, a master's key
        std::string name;     ///< a path relative to the project, or the master's name
        std::string note;     ///< what came of it: "weight 0.07123 scale 1.00210"
    };
    struct Step {
        std::string name;                                          ///< "calibrate"
        std::string text;                                          ///< in words, without a full stop
        std::vector<std::pair<std::string, std::string>> settings; ///< what decides it, by name
        std::vector<Input> inputs;

        Step& set(const std::string& setting, const std::string& value);
    };
    std::vector<Step> steps;

    /// The step of that name; it is added at the end if there is none.
    Step& step(const std::string& name);
    const Step* find(const std::string& name) const;
    /// Takes over the steps of another, each into the one of its name if there is one: settings and inputs are added,
    /// text replaces.
    void merge(const Provenance& other);
    /// Gives inputs their present names: `name_of` returns the name for an identity, empty where it knows none.
    void rename_inputs(const std::function<std::string(const std::string&)>& name_of);
    /// The account as lines of text: "calibrate: with dark-300s and flat-L", then one line for each exposure: "from
    /// night-1/a.fits weight 0.07 scale 1.00".
    std::vector<std::string> history() const;
    /// Names of the inputs of a kind, each once, in order.
    std::vector<Input> inputs_of(Input::Kind kind) const;
};

} // namespace kasane
