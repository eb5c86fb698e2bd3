// Errors that say what failed, on which file, and what to do about it.
//
// The room holds, beside this:
//   file_stamp.hpp   when and how large a file is, to tell whether it is still the one
//   hash.hpp         digests of content
//   members.hpp      structures as lists of their members, for digests of whole records
//   memory.hpp       the memory budget, and how much is used
//   output_file.hpp  writing without half files; early_writing.hpp: on their way to the disk meanwhile
//   parallel.hpp     parallel loops that can be cancelled; the context of a piece of work
//   progress.hpp     progress and cancellation, from the side of the work
//   remaining_time.hpp  how long work of several stages will still take
//   provenance.hpp   the steps that made an image, with settings and inputs
//   scratch.hpp      memory behind which a file stands, for results larger than the budget
//   spelling.hpp     what somebody may have meant by an unknown word
//   units.hpp        constants and conversions
#pragma once

#include <filesystem>
#include <optional>
#include <stdexcept>
#include <string>

namespace kasane {

/// The base of every exception Kasane throws. `what()` joins the parts into one readable sentence.
class Error : public std::runtime_error {
public:
    /// @param what_failed  what was found and what was expected, without a full stop
    /// @param file         the file concerned; may be empty
    /// @param remedy       how to go on; may be empty
    Error(std::string what_failed, std::filesystem::path file, std::string remedy);

    const std::string& what_failed() const noexcept { return what_failed_; }
    const std::filesystem::path& file() const noexcept { return file_; }
    const std::string& remedy() const noexcept { return remedy_; }

private:
    std::string what_failed_;
    std::filesystem::path file_;
    std::string remedy_;
};

/// A file that cannot be read as what it claims to be. Ends that file, never a run of many.
class InputError : public Error {
public:
    using Error::Error;
};

/// A file that was read well and cannot serve for what it was wanted for: another size, no light on a flat. Reading it
/// again would not help.
class UnfitError : public InputError {
    using InputError::InputError;
};

/// A result that cannot be written: folder not writable, disk full. Ends the run.
class OutputError : public Error {
    using Error::Error;
};

/// A call or recipe that is wrong.
class UsageError : public Error {
    using Error::Error;
};

/// Options that make no sense are a wrong call: throws UsageError with what `options.check()` says of them, if
/// anything.
template <class Options>
void require_sense(const Options& options) {
    if (std::string wrong = options.check(); !wrong.empty()) throw UsageError(std::move(wrong), {}, {});
}

/// Data on which a computation has no answer (too few stars, no frames).
class DataError : public Error {
    using Error::Error;
};

/// How a file failed, as a value: of many files some always do, and that is no reason to stop.
struct FileFailure {
    std::filesystem::path file;
    std::string what_failed, remedy;
    bool unfit = false; ///< it was read well and does not serve: reading it again would not help

    static FileFailure of(const InputError& e);
    /// Throws it as the error that it was.
    [[noreturn]] void raise() const;
};

/// Does `f`, which reads files. Nothing if it went well, else how a file failed it; other errors pass through.
template <class F>
std::optional<FileFailure> attempt(F&& f) {
    try {
        f();
    } catch (const InputError& e) {
        return FileFailure::of(e);
    }
    return std::nullopt;
}

/// The person asked to stop.
class Cancelled : public Error {
public:
    Cancelled() : Error("stopped on request", {}, "run again to go on; finished work is kept") {}
};

} // namespace kasane
