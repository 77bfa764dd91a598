// SPDX-License-Identifier: MIT
#include "program.hpp"

int main(int argc, char** argv) { return wavicon::cli::run_program(argc, argv); }
