# Parsed once instead of once for each file; sources still include what they use.
set(PARGETER_HEAVY_HEADERS <fmt/format.h> <algorithm> <functional> <map> <memory> <optional> <string>
  <thread> <unordered_map> <vector>)

file(CONFIGURE OUTPUT ${CMAKE_BINARY_DIR}/heavy_headers.cc CONTENT
  "// nothing but the headers\n")
add_library(heavy_headers STATIC ${CMAKE_BINARY_DIR}/heavy_headers.cc)
target_link_libraries(heavy_headers PRIVATE fmt::fmt Threads::Threads)
target_precompile_headers(heavy_headers PRIVATE ${PARGETER_HEAVY_HEADERS})

# One static library per layer. A layer's headers are reachable only through the
# include directory that comes with linking it, so that an arrow pointing the
# wrong way does not compile. `pargeter_layer(net SOURCES a.cc DEPS base)` makes
# the target pg_net, whose headers are included as "net/...". With HEADERS others see only these of
# its headers; PRIVATE_DEPS are not passed on to those who link it.
function(pargeter_layer name)
  cmake_parse_arguments(LAYER "" "DIR" "SOURCES;HEADERS;DEPS;PRIVATE_DEPS;PRIVATE_LIBS;PUBLIC_LIBS" ${ARGN})
  if(NOT LAYER_DIR)
    set(LAYER_DIR ${name})
  endif()
  string(REPLACE "/" "_" target ${name})
  set(root ${CMAKE_BINARY_DIR}/include/${target})
  get_filename_component(parent ${root}/${LAYER_DIR} DIRECTORY)
  file(REMOVE_RECURSE ${root})
  file(MAKE_DIRECTORY ${parent})
  if(LAYER_HEADERS)
    file(MAKE_DIRECTORY ${root}/${LAYER_DIR})
    foreach(header ${LAYER_HEADERS})
      file(CREATE_LINK ${CMAKE_SOURCE_DIR}/src/${LAYER_DIR}/${header} ${root}/${LAYER_DIR}/${header} SYMBOLIC)
    endforeach()
  else()
    file(CREATE_LINK ${CMAKE_SOURCE_DIR}/src/${LAYER_DIR} ${root}/${LAYER_DIR} SYMBOLIC)
  endif()
  list(TRANSFORM LAYER_SOURCES PREPEND ${CMAKE_SOURCE_DIR}/src/${LAYER_DIR}/)
  list(TRANSFORM LAYER_DEPS PREPEND pg_)
  list(TRANSFORM LAYER_PRIVATE_DEPS PREPEND pg_)
  add_library(pg_${target} STATIC ${LAYER_SOURCES})
  target_include_directories(pg_${target} PUBLIC ${root})
  target_precompile_headers(pg_${target} REUSE_FROM heavy_headers)
  target_link_libraries(pg_${target} PUBLIC ${LAYER_DEPS} ${LAYER_PUBLIC_LIBS} PRIVATE ${LAYER_PRIVATE_DEPS} ${LAYER_PRIVATE_LIBS})
endfunction()
