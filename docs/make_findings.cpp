// SPDX-License-Identifier: MIT
#include <cstdio>

#include <herberge/report.hpp>

int main() { std::fputs(herberge::findings_markdown().c_str(), stdout); }
