# `cmake --install`, `find_package(kasane)`, and Debian packages: the command, and what one builds upon.
include(CMakePackageConfigHelpers)
install(TARGETS kasane_core kasane_sky kasane_project EXPORT kasaneTargets
        ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT development)
install(DIRECTORY kasane DESTINATION ${CMAKE_INSTALL_INCLUDEDIR} COMPONENT development FILES_MATCHING PATTERN "*.hpp")
install(EXPORT kasaneTargets NAMESPACE kasane:: DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/kasane COMPONENT development)
configure_package_config_file(cmake/kasaneConfig.cmake.in ${CMAKE_BINARY_DIR}/kasaneConfig.cmake
                              INSTALL_DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/kasane)
write_basic_package_version_file(${CMAKE_BINARY_DIR}/kasaneConfigVersion.cmake COMPATIBILITY SameMinorVersion)
install(FILES ${CMAKE_BINARY_DIR}/kasaneConfig.cmake ${CMAKE_BINARY_DIR}/kasaneConfigVersion.cmake
              cmake/dependencies.cmake DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/kasane COMPONENT development)
install(TARGETS kasane_command RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR} COMPONENT command)

# Manual pages and what shells complete: the command writes them.
set(manual ${CMAKE_BINARY_DIR}/manual)
add_custom_command(OUTPUT ${manual}/made
                   COMMAND kasane_command --manual-pages ${manual}/man1
                   COMMAND sh -c "gzip -9nf ${manual}/man1/*.1"
                   COMMAND kasane_command --completion bash > ${manual}/kasane.bash
                   COMMAND kasane_command --completion zsh > ${manual}/_kasane
                   COMMAND kasane_command --completion fish > ${manual}/kasane.fish
                   COMMAND ${CMAKE_COMMAND} -E touch ${manual}/made
                   DEPENDS kasane_command VERBATIM)
add_custom_target(kasane_manual ALL DEPENDS ${manual}/made)
install(DIRECTORY ${manual}/man1 DESTINATION ${CMAKE_INSTALL_MANDIR} COMPONENT command FILES_MATCHING PATTERN "*.gz")
install(FILES ${manual}/kasane.bash DESTINATION ${CMAKE_INSTALL_DATADIR}/bash-completion/completions RENAME kasane
        COMPONENT command)
install(FILES ${manual}/_kasane DESTINATION ${CMAKE_INSTALL_DATADIR}/zsh/vendor-completions COMPONENT command)
install(FILES ${manual}/kasane.fish DESTINATION ${CMAKE_INSTALL_DATADIR}/fish/vendor_completions.d COMPONENT command)

# `cpack` in a build folder makes both packages.
add_custom_command(OUTPUT ${manual}/changelog.gz
                   COMMAND sh -c "gzip -9nc ${PROJECT_SOURCE_DIR}/CHANGELOG.md > ${manual}/changelog.gz"
                   DEPENDS ${PROJECT_SOURCE_DIR}/CHANGELOG.md ${manual}/made VERBATIM)
add_custom_target(kasane_changelog ALL DEPENDS ${manual}/changelog.gz)
foreach(package kasane libkasane-dev)
  set(component command)
  if(package STREQUAL libkasane-dev)
    set(component development)
  endif()
  install(FILES ${PROJECT_SOURCE_DIR}/LICENSE DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/${package} RENAME copyright
          COMPONENT ${component})
  install(FILES ${manual}/changelog.gz DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/${package} COMPONENT ${component})
endforeach()
set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_CONTACT "The Kasane maintainers <kasane@example.org>")
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_STRIP_FILES ON)
set(CPACK_COMPONENTS_ALL command development)
set(CPACK_DEB_COMPONENT_INSTALL ON)
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_COMMAND_PACKAGE_NAME kasane)
set(CPACK_DEBIAN_COMMAND_PACKAGE_SECTION science)
set(CPACK_COMPONENT_COMMAND_DESCRIPTION "Kasane builds calibration masters, grades subframes, registers the exposures
 of many nights and filters, and integrates them into master lights.")
set(CPACK_DEBIAN_DEVELOPMENT_PACKAGE_NAME libkasane-dev)
set(CPACK_DEBIAN_DEVELOPMENT_PACKAGE_SECTION libdevel)
set(CPACK_COMPONENT_DEVELOPMENT_DESCRIPTION "Headers and static libraries of Kasane, for find_package(kasane) of CMake.")
file(STRINGS scripts/packages.sh development_packages REGEX "-dev")
string(REGEX MATCHALL "[a-z0-9.+-]+-dev" development_packages "${development_packages}")
list(REMOVE_ITEM development_packages libbenchmark-dev libopencv-imgproc-dev)
list(REMOVE_DUPLICATES development_packages)
list(JOIN development_packages ", " CPACK_DEBIAN_DEVELOPMENT_PACKAGE_DEPENDS)
include(CPack)
