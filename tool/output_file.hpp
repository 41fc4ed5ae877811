// SPDX-License-Identifier: MIT
// A file that appears under its name only when it is whole.
#pragma once

#include <cstdint>
#include <span>
#include <string>

namespace tool {

class OutputFile {
public:
    OutputFile() = default;
    OutputFile(const OutputFile&) = delete;
    OutputFile& operator=(const OutputFile&) = delete;
    OutputFile(OutputFile&&) = delete;
    OutputFile& operator=(OutputFile&&) = delete;
    ~OutputFile();

    /// "-" is standard output; pipes and character devices are written directly. A file that is there is refused unless
    /// `replace`. The answer is empty, or says what is in the way.
    [[nodiscard]] std::string open(const std::string& path, bool replace);
    [[nodiscard]] bool write(std::span<const std::uint8_t> bytes);
    /// Gives the file its name. Without this, nothing remains of it.
    [[nodiscard]] bool keep();

private:
    int descriptor_ = -1;
    bool replace_ = false;
    std::string path_;
    std::string temporary_;  ///< beside the target; empty: written directly
};

}  // namespace tool
