# SPDX-License-Identifier: MIT
# Installs the build into a folder of its own and builds and runs consumer.cpp against it in both ways that the manual promises.
set(prefix ${BUILD}/consumers/installed)
file(REMOVE_RECURSE ${BUILD}/consumers)

function(run)
  execute_process(COMMAND ${ARGV} RESULT_VARIABLE status OUTPUT_VARIABLE output ERROR_VARIABLE output)
  if(NOT status EQUAL 0)
    message(FATAL_ERROR "failed (${status}): ${ARGV}\n${output}")
  endif()
  set(output "${output}" PARENT_SCOPE)
endfunction()

function(expect_output)
  if(NOT output MATCHES "997\\.000 Hz")
    message(FATAL_ERROR "the consumer printed: ${output}")
  endif()
endfunction()

run(${CMAKE_COMMAND} --install ${BUILD} --prefix ${prefix})
run(${CMAKE_COMMAND} -S ${SOURCE} -B ${BUILD}/consumers/cmake -G Ninja -DCMAKE_PREFIX_PATH=${prefix} -DCMAKE_CXX_COMPILER=${CXX}
  -DCMAKE_CXX_FLAGS=${FLAGS})
run(${CMAKE_COMMAND} --build ${BUILD}/consumers/cmake)
run(${CMAKE_COMMAND} -E env LD_LIBRARY_PATH=${prefix}/lib ${BUILD}/consumers/cmake/consumer)
expect_output()

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
run(${CXX} -std=c++20 ${more} ${SOURCE}/consumer.cpp -o ${BUILD}/consumers/by-pkg-config ${flags})
run(${CMAKE_COMMAND} -E env LD_LIBRARY_PATH=${lib_folder} ${BUILD}/consumers/by-pkg-config)
expect_output()

# A component that does not exist is refused with the ones that do.
file(WRITE ${BUILD}/consumers/missing/CMakeLists.txt
  "cmake_minimum_required(VERSION 3.25)\nproject(missing CXX)\nfind_package(wavicon REQUIRED COMPONENTS nonsense)\n")
execute_process(COMMAND ${CMAKE_COMMAND} -S ${BUILD}/consumers/missing -B ${BUILD}/consumers/missing/build -G Ninja -DCMAKE_PREFIX_PATH=${prefix}
  -DCMAKE_CXX_COMPILER=${CXX} RESULT_VARIABLE status OUTPUT_VARIABLE output ERROR_VARIABLE output)
if(status EQUAL 0 OR NOT output MATCHES "component 'nonsense' was not built")
  message(FATAL_ERROR "a missing component was not refused: ${output}")
endif()
