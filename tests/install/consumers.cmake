# SPDX-License-Identifier: MIT
# Installs the build into a folder of its own and builds and runs three consumers against it in both ways that the manual promises.
set(prefix ${BUILD}/consumers/installed)
file(REMOVE_RECURSE ${BUILD}/consumers)

function(run)
  execute_process(COMMAND ${ARGV} RESULT_VARIABLE status OUTPUT_VARIABLE output ERROR_VARIABLE output)
  if(NOT status EQUAL 0)
    message(FATAL_ERROR "failed (${status}): ${ARGV}\n${output}")
  endif()
  set(output "${output}" PARENT_SCOPE)
endfunction()

set(expected_in_memory "997\\.000 Hz")
set(expected_stream "RMS -23\\.01 dBFS\nrefused: dropout")
set(expected_own_measurement "15 measurements, loud for 0\\.25 s")
set(own_measurement ../../examples/)
set(names in_memory stream own_measurement)
function(expect_output name)
  if(NOT output MATCHES "${expected_${name}}")
    message(FATAL_ERROR "the consumer ${name} printed: ${output}")
  endif()
endfunction()

run(${CMAKE_COMMAND} --install ${BUILD} --prefix ${prefix})
foreach(file LICENSE docs)
  file(GLOB_RECURSE found ${prefix}/share/doc/*/${file}* ${prefix}/share/doc/*/levels.md)
  if(NOT found)
    message(FATAL_ERROR "${file} is not installed")
  endif()
endforeach()
run(${CMAKE_COMMAND} -S ${SOURCE} -B ${BUILD}/consumers/cmake -G Ninja -DCMAKE_PREFIX_PATH=${prefix} -DCMAKE_CXX_COMPILER=${CXX}
  -DCMAKE_CXX_FLAGS=${FLAGS})
run(${CMAKE_COMMAND} --build ${BUILD}/consumers/cmake)
foreach(name IN LISTS names)
  run(${CMAKE_COMMAND} -E env LD_LIBRARY_PATH=${prefix}/lib ${BUILD}/consumers/cmake/${name})
  expect_output(${name})
endforeach()

# A plugin maker's own project, as the manual shows it.
run(${CMAKE_COMMAND} -S ${SOURCE}/../../examples/plugin-tests -B ${BUILD}/consumers/plugin-tests -G Ninja
  -DCMAKE_PREFIX_PATH=${prefix} -DCMAKE_CXX_COMPILER=${CXX} -DCMAKE_CXX_FLAGS=${FLAGS})
run(${CMAKE_COMMAND} --build ${BUILD}/consumers/plugin-tests)
run(${CMAKE_COMMAND} -E env LD_LIBRARY_PATH=${prefix}/lib ${BUILD}/consumers/plugin-tests/drive-tests)
if(NOT output MATCHES "PASSED.*4 tests")
  message(FATAL_ERROR "the plugin maker's tests printed: ${output}")
endif()

# Every block of code of the tour.
run(awk -f ${SOURCE}/code_blocks.awk ${SOURCE}/../../docs/library.md)
file(WRITE ${BUILD}/consumers/blocks.cpp "${output}")
run(${CXX} -std=c++20 -fsyntax-only -I${prefix}/include ${BUILD}/consumers/blocks.cpp)

file(GLOB_RECURSE pc ${prefix}/*/wavicon-measure.pc)
get_filename_component(pc_folder ${pc} DIRECTORY)
get_filename_component(lib_folder ${pc_folder} DIRECTORY)
set(ENV{PKG_CONFIG_PATH} ${pc_folder})
execute_process(COMMAND pkg-config --cflags --libs wavicon-measure wavicon-file OUTPUT_VARIABLE flags RESULT_VARIABLE status
  OUTPUT_STRIP_TRAILING_WHITESPACE)
if(NOT status EQUAL 0)
  message(FATAL_ERROR "pkg-config does not find wavicon-measure")
endif()
separate_arguments(flags UNIX_COMMAND "${FLAGS} ${flags}")
separate_arguments(more UNIX_COMMAND "${FLAGS}")
foreach(name IN LISTS names)
  run(${CXX} -std=c++20 ${more} ${SOURCE}/${${name}}${name}.cpp -o ${BUILD}/consumers/${name} ${flags})
  run(${CMAKE_COMMAND} -E env LD_LIBRARY_PATH=${lib_folder} ${BUILD}/consumers/${name})
  expect_output(${name})
endforeach()

# Inside another project nothing but the libraries is built, unless it is asked for.
file(WRITE ${BUILD}/consumers/inside/CMakeLists.txt
  "cmake_minimum_required(VERSION 3.25)\nproject(inside CXX)\nadd_subdirectory(${SOURCE}/../.. wavicon)\n")
run(${CMAKE_COMMAND} -S ${BUILD}/consumers/inside -B ${BUILD}/consumers/inside/build -G Ninja -DCMAKE_CXX_COMPILER=${CXX})
file(READ ${BUILD}/consumers/inside/build/CMakeCache.txt cache)
foreach(option LV2 DEMO_PLUGINS LADSPA JACK PLOTS BENCH LIVE CLI TESTS EXAMPLES BENCHMARKS)
  if(NOT cache MATCHES "WAVICON_${option}:BOOL=OFF")
    message(FATAL_ERROR "WAVICON_${option} is on inside another project")
  endif()
endforeach()

# A component that does not exist is refused with the ones that do.
file(WRITE ${BUILD}/consumers/missing/CMakeLists.txt
  "cmake_minimum_required(VERSION 3.25)\nproject(missing CXX)\nfind_package(wavicon REQUIRED COMPONENTS nonsense)\n")
execute_process(COMMAND ${CMAKE_COMMAND} -S ${BUILD}/consumers/missing -B ${BUILD}/consumers/missing/build -G Ninja -DCMAKE_PREFIX_PATH=${prefix}
  -DCMAKE_CXX_COMPILER=${CXX} RESULT_VARIABLE status OUTPUT_VARIABLE output ERROR_VARIABLE output)
if(status EQUAL 0 OR NOT output MATCHES "component 'nonsense' was not built")
  message(FATAL_ERROR "a missing component was not refused: ${output}")
endif()
