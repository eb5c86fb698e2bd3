#include "manual.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <sstream>
#include <vector>

namespace kasane::cli {

namespace {

std::vector<const CLI::App*> verbs_of(const CLI::App& app) {
    return app.get_subcommands([](const CLI::App*) { return true; });
}

/// What the help says of an option or a positional word.
struct Word {
    std::vector<std::string> names; ///< "-o", "--output"; empty: positional
    std::string value;              ///< "DIR"; empty: a flag
    std::vector<std::string> choices;
    std::string text;
    bool required = false;
    bool folder() const { return value == "DIR" || value == "FOLDER"; }
    bool file() const { return value == "FILE" || value == "IMAGE" || value == "PNG" || value == "CSV"; }
};

/// The type's name holds what its checks allow too: "NAME:{a,b}", "INT:INT in [1 - 9]".
Word word_of(const CLI::Option& o) {
    Word w;
    for (const std::string& n : o.get_snames())
        w.names.push_back("-" + n);
    for (const std::string& n : o.get_lnames())
        w.names.push_back("--" + n);
    w.text = o.get_description();
    w.required = o.get_required();
    if (!w.names.empty() && o.get_items_expected_max() == 0) return w;
    const std::string type = o.get_type_name();
    w.value = type.substr(0, type.find(':'));
    const auto from = type.find('{'), to = type.rfind('}');
    if (from != std::string::npos && to != std::string::npos) {
        std::istringstream list(type.substr(from + 1, to - from - 1));
        for (std::string one; std::getline(list, one, ',');)
            w.choices.push_back(one);
        if (from == 0 || w.value.find('{') != std::string::npos) w.value = "WORD";
    }
    return w;
}

std::vector<Word> words_of(const CLI::App& app) {
    std::vector<Word> out;
    for (const CLI::Option* o : app.get_options())
        if (!o->get_group().empty()) out.push_back(word_of(*o)); // those without a group are not shown
    return out;
}

// ---- for man(1) -----------------------------------------------------------------------------------------------------

std::string roff(const std::string& text) {
    std::string out;
    for (const char c : text) {
        if (c == '\\')
            out += "\\e";
        else if (c == '-')
            out += "\\-";
        else if (c == '\n')
            out += ' ';
        else
            out += c;
    }
    return !out.empty() && (out.front() == '.' || out.front() == '\'') ? "\\&" + out : out;
}

/// Paragraphs are kept, lines within them are not: a page is as wide as its window. Lists stay as they are.
std::string paragraphs(const std::string& text) {
    std::istringstream in(text);
    std::string out, paragraph;
    bool listed = false;
    const auto end = [&] {
        if (!paragraph.empty()) out += roff(paragraph) + "\n";
        paragraph.clear();
    };
    for (std::string line; std::getline(in, line);) {
        const bool item = line.starts_with("  ");
        if (item != listed) {
            end();
            out += item ? ".PP\n.nf\n" : ".fi\n.PP\n";
            listed = item;
        }
        if (item)
            out += roff(line) + "\n";
        else if (line.empty()) {
            end();
            out += ".PP\n";
        } else
            paragraph += (paragraph.empty() ? "" : " ") + line;
    }
    end();
    return out + (listed ? ".fi\n" : "");
}

std::string entries(const std::vector<Word>& words, bool positional) {
    std::string out;
    for (const Word& w : words) {
        if (w.names.empty() != positional) continue;
        std::string head;
        for (const std::string& n : w.names)
            head += fmt::format("{}\\fB{}\\fR", head.empty() ? "" : ", ", roff(n));
        if (!w.value.empty()) head += fmt::format("{}\\fI{}\\fR", head.empty() ? "" : " ", roff(w.value));
        out += fmt::format(".TP\n{}\n{}{}\n", head, roff(w.text),
                           w.choices.empty() ? "" : roff(fmt::format(" ({})", fmt::join(w.choices, ", "))));
    }
    return out;
}

std::string synopsis(const std::string& name, const std::vector<Word>& words) {
    std::string out = fmt::format("\\fB{}\\fR [\\fIoptions\\fR]", roff(name));
    for (const Word& w : words)
        if (w.names.empty()) {
            const std::string word = fmt::format("\\fI{}\\fR", roff(w.value));
            out += w.required ? " " + word : " [" + word + "]";
        }
    return out;
}

std::string first_line(const std::string& text) {
    std::string line = text.substr(0, text.find('\n'));
    while (!line.empty() && line.back() == '.')
        line.pop_back();
    return line;
}

// ---- for shells -----------------------------------------------------------------------------------------------------

std::string joined(const std::vector<std::string>& words, const char* between = " ") {
    return fmt::format("{}", fmt::join(words, between));
}

/// Between single quotes, as sh and zsh take it.
std::string quoted(const std::string& text) {
    std::string out = "'";
    for (const char c : text)
        out += c == '\'' ? std::string("'\\''") : std::string(1, c);
    return out + "'";
}

/// The same for fish, where a backslash within quotes says that the quote is meant.
std::string fish_quoted(const std::string& text) {
    std::string out = "'";
    for (const char c : text)
        out += c == '\'' || c == '\\' ? std::string("\\") + c : std::string(1, c);
    return out + "'";
}

std::string bash_reply(const Word& w) {
    if (!w.choices.empty())
        return fmt::format("mapfile -t COMPREPLY < <(compgen -W {} -- \"$cur\")", quoted(joined(w.choices)));
    if (w.folder()) return "compopt -o filenames; mapfile -t COMPREPLY < <(compgen -d -- \"$cur\")";
    if (w.file()) return "compopt -o filenames; mapfile -t COMPREPLY < <(compgen -f -- \"$cur\")";
    return "COMPREPLY=()";
}

std::string bash_script(const CLI::App& app) {
    std::vector<std::string> names;
    std::string values, verbs;
    for (const CLI::App* verb : verbs_of(app)) {
        const std::string name = verb->get_name();
        names.push_back(name);
        std::vector<std::string> options;
        std::string reply = "COMPREPLY=()";
        for (const Word& w : words_of(*verb)) {
            options.insert(options.end(), w.names.begin(), w.names.end());
            std::vector<std::string> cases;
            for (const std::string& n : w.names)
                cases.push_back(fmt::format("'{} {}'", name, n));
            if (w.names.empty() && reply == "COMPREPLY=()")
                reply = bash_reply(w);
            else if (!w.names.empty() && !w.value.empty())
                values += fmt::format("        {}) {}; return ;;\n", joined(cases, "|"), bash_reply(w));
        }
        verbs += fmt::format("        {})\n            if [[ $cur == -* ]]; then mapfile -t COMPREPLY < <(compgen -W "
                             "'{}' -- \"$cur\")\n            else {}; fi ;;\n",
                             name, joined(options), reply);
    }
    return fmt::format("# What bash completes for kasane.\n"
                       "_kasane() {{\n"
                       "    local cur=${{COMP_WORDS[COMP_CWORD]}} prev=${{COMP_WORDS[COMP_CWORD - 1]}} verb='' i\n"
                       "    for ((i = 1; i < COMP_CWORD; ++i)); do\n"
                       "        case ${{COMP_WORDS[i]}} in\n"
                       "            {}) verb=${{COMP_WORDS[i]}}; break ;;\n"
                       "        esac\n"
                       "    done\n"
                       "    case \"$verb $prev\" in\n{}    esac\n"
                       "    case $verb in\n{}"
                       "        *) mapfile -t COMPREPLY < <(compgen -W '{} help --help --version' -- \"$cur\") ;;\n"
                       "    esac\n"
                       "}}\n"
                       "complete -F _kasane kasane\n",
                       joined(names, "|"), values, verbs, joined(names));
}

std::string zsh_words(const Word& w) {
    if (!w.choices.empty()) return fmt::format("({})", joined(w.choices));
    return w.folder() ? "_files -/" : w.file() ? "_files" : " ";
}

/// Within a description of _arguments, between brackets.
std::string zsh_text(const std::string& text) {
    std::string out;
    for (const char c : text)
        out += c == '[' || c == ']' || c == ':' || c == '\\' ? std::string("\\") + c : std::string(1, c);
    return out;
}

std::string zsh_script(const CLI::App& app) {
    std::string verbs, cases;
    for (const CLI::App* verb : verbs_of(app)) {
        verbs += fmt::format(
            "    {}\n", quoted(fmt::format("{}:{}", verb->get_name(), zsh_text(first_line(verb->get_description())))));
        cases += fmt::format("        {})\n            _arguments", verb->get_name());
        for (const Word& w : words_of(*verb)) {
            const std::string value = w.value.empty() ? "" : fmt::format(":{}:{}", w.value, zsh_words(w));
            for (const std::string& n : w.names)
                cases +=
                    fmt::format(" \\\n                {}", quoted(fmt::format("{}[{}]{}", n, zsh_text(w.text), value)));
            if (w.names.empty()) cases += fmt::format(" \\\n                {}", quoted("*" + value));
        }
        cases += "\n            ;;\n";
    }
    return fmt::format("#compdef kasane\n"
                       "# What zsh completes for kasane.\n"
                       "local context state state_descr line\n"
                       "typeset -A opt_args\n"
                       "local -a verbs=(\n{})\n"
                       "_arguments -C '1:verb:->verb' '*::word:->rest'\n"
                       "case $state in\n"
                       "    verb) _describe verb verbs ;;\n"
                       "    rest)\n        case $words[1] in\n{}        esac ;;\n"
                       "esac\n",
                       verbs, cases);
}

std::string fish_script(const CLI::App& app) {
    std::string out = "# What fish completes for kasane.\ncomplete -c kasane -f\n";
    for (const CLI::App* verb : verbs_of(app)) {
        const std::string name = verb->get_name();
        out += fmt::format("complete -c kasane -n __fish_use_subcommand -a {} -d {}\n", name,
                           fish_quoted(first_line(verb->get_description())));
        for (const Word& w : words_of(*verb)) {
            std::string line = fmt::format("complete -c kasane -n '__fish_seen_subcommand_from {}'", name);
            for (const std::string& n : w.names)
                line += n.starts_with("--") ? " -l " + n.substr(2) : " -s " + n.substr(1);
            if (!w.names.empty() && !w.value.empty()) line += w.file() ? " -r -F" : " -x";
            if (w.names.empty() && w.file()) line += " -F";
            if (!w.choices.empty()) line += " -a " + fish_quoted(joined(w.choices));
            if (w.folder()) line += " -a '(__fish_complete_directories)'";
            if (!w.names.empty()) line += " -d " + fish_quoted(w.text);
            if (!w.names.empty() || w.file() || w.folder() || !w.choices.empty()) out += line + "\n";
        }
    }
    return out;
}

} // namespace

std::string manual_page(const CLI::App& app, const CLI::App* verb) {
    const CLI::App& of = verb ? *verb : app;
    const std::string name = verb ? "kasane " + verb->get_name() : "kasane";
    std::string title = verb ? "kasane-" + verb->get_name() : "kasane";
    const std::string text = of.get_description();
    std::string out =
        fmt::format(".\\\" Made by the command itself.\n.TH {} 1 \"\" \"Kasane {}\" \"Kasane\"\n.SH NAME\n"
                    "{} \\- {}\n.SH SYNOPSIS\n",
                    roff(title), KASANE_VERSION, roff(title), roff(first_line(text)));
    const std::vector<Word> words = words_of(of);
    if (verb)
        out += synopsis(name, words) + "\n";
    else
        out += "\\fBkasane\\fR \\fIVERB\\fR [\\fIoptions\\fR]\n.br\n\\fBkasane help\\fR [\\fIVERB\\fR]\n";
    out += ".SH DESCRIPTION\n" + paragraphs(text);
    if (!verb) {
        out += ".SH VERBS\n";
        for (const CLI::App* v : verbs_of(app))
            out += fmt::format(".TP\n\\fB{}\\fR\n{}. See \\fBkasane\\-{}\\fR(1).\n", roff(v->get_name()),
                               roff(first_line(v->get_description())), roff(v->get_name()));
    }
    if (const std::string arguments = entries(words, true); !arguments.empty()) out += ".SH ARGUMENTS\n" + arguments;
    out += ".SH OPTIONS\n" + entries(words, false);
    out += ".SH EXIT STATUS\n" + paragraphs(app.get_footer());
    if (!verb)
        out += ".SH FILES\n.TP\n\\fIkasane.toml\\fR\nThe recipe of a project: what a person wrote. \\fBkasane init\\fR "
               "writes one with every key explained.\n.TP\n\\fIverdicts.toml\\fR\nVerdicts by hand.\n.TP\n"
               "\\fI.kasane\\fR\nWhat is remembered of the files. It can be deleted, and is made again.\n";
    return out + (verb ? ".SH SEE ALSO\n\\fBkasane\\fR(1)\n" : "");
}

void write_manual_pages(const CLI::App& app, const std::filesystem::path& folder) {
    require_writable_folder(folder);
    const auto write = [&](const std::string& name, const CLI::App* verb) {
        write_text_safely(folder / name, manual_page(app, verb), Over::anything);
    };
    write("kasane.1", nullptr);
    for (const CLI::App* verb : verbs_of(app))
        write(fmt::format("kasane-{}.1", verb->get_name()), verb);
}

std::string completion_script(const CLI::App& app, const std::string& shell) {
    if (shell == "bash") return bash_script(app);
    if (shell == "zsh") return zsh_script(app);
    if (shell == "fish") return fish_script(app);
    throw UsageError(fmt::format("nothing is known of completion in '{}'", shell), {}, "It is bash, zsh or fish");
}

} // namespace kasane::cli
