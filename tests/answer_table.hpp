// SPDX-License-Identifier: MIT
// Tables of scripts and what real loaders answered to them (conformance/*.scripts).
#pragma once

#include <fstream>
#include <string>
#include <vector>

namespace support {

struct Answered {
    std::string script, answer;
    int line = 0;  ///< of the table
};

/// The rows of conformance/<name>: "script" for each line of one, "leaves" for the answer.
inline std::vector<Answered> answer_table(const std::string& name) {
    const auto plain = [](std::string text) {
        for (const auto& [mark, stands] : {std::pair<std::string, const char*>{"<CR>", "\r"}, {"<LF>", "\n"}})
            for (std::size_t at = 0; (at = text.find(mark, at)) != std::string::npos;)
                text.replace(at, mark.size(), stands);
        return text;
    };
    std::ifstream in(std::string(SOURCE_DIR) + "/conformance/" + name);
    std::vector<Answered> out;
    Answered row;
    int number = 0;
    for (std::string line; std::getline(in, line);) {
        ++number;
        if (line.starts_with("script ")) {
            if (row.line == 0) row.line = number;
            else row.script += '\n';
            row.script += plain(line.substr(7));
        } else if (line.starts_with("leaves")) {
            row.answer = line.size() > 7 ? plain(line.substr(7)) : std::string{};
            out.push_back(std::move(row));
            row = {};
        }
    }
    return out;
}

/// As a terminal shows it, and a line of the table keeps it.
inline std::string as_in_table(std::string text) {
    std::erase(text, '\r');
    text.erase(text.find_last_not_of(' ') + 1);
    return text;
}

}  // namespace support
