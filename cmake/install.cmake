# `cmake --install`, `find_package(kasane)`, and Debian packages (scripts/package): the command, the libraries it needs, and
# what one builds programs with.
include(CMakePackageConfigHelpers)
set_target_properties(kasane_core kasane_sky kasane_project PROPERTIES INSTALL_RPATH "$ORIGIN")
set_target_properties(kasane_command PROPERTIES INSTALL_RPATH "$ORIGIN/../${CMAKE_INSTALL_LIBDIR}")
install(TARGETS kasane_core kasane_sky kasane_project EXPORT kasaneTargets
        LIBRARY DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT library NAMELINK_COMPONENT development
        ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT development)
# Headers for the sources alone: they need what a program that uses Kasane does not (docs/architecture.md; a test includes all others).
install(DIRECTORY kasane DESTINATION ${CMAKE_INSTALL_INCLUDEDIR} COMPONENT development FILES_MATCHING PATTERN "*.hpp"
        PATTERN "*-inl.hpp" EXCLUDE PATTERN "io/fits_file.hpp" EXCLUDE PATTERN "recipe/toml.hpp" EXCLUDE
        PATTERN "recipe/*keys.hpp" EXCLUDE)
file(CONFIGURE OUTPUT ${PROJECT_BINARY_DIR}/overrides CONTENT "# Three libraries that belong together, in one package.
libkasane@PROJECT_VERSION_MAJOR@.@PROJECT_VERSION_MINOR@: package-name-doesnt-match-sonames *
" @ONLY)
if(BUILD_SHARED_LIBS)
  install(FILES ${PROJECT_BINARY_DIR}/overrides DESTINATION ${CMAKE_INSTALL_DATADIR}/lintian/overrides
          RENAME libkasane${PROJECT_VERSION_MAJOR}.${PROJECT_VERSION_MINOR} COMPONENT library)
endif()
install(EXPORT kasaneTargets NAMESPACE kasane:: DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/kasane COMPONENT development)
set(KASANE_DEPENDENCIES header_dependencies) # of programs that use the package
if(NOT BUILD_SHARED_LIBS)
  set(KASANE_DEPENDENCIES dependencies)
endif()
configure_package_config_file(cmake/kasaneConfig.cmake.in ${PROJECT_BINARY_DIR}/kasaneConfig.cmake
                              INSTALL_DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/kasane)
write_basic_package_version_file(${PROJECT_BINARY_DIR}/kasaneConfigVersion.cmake COMPATIBILITY SameMinorVersion)
install(FILES ${PROJECT_BINARY_DIR}/kasaneConfig.cmake ${PROJECT_BINARY_DIR}/kasaneConfigVersion.cmake
              cmake/dependencies.cmake cmake/header_dependencies.cmake
        DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/kasane COMPONENT development)
install(DIRECTORY examples DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/libkasane-dev COMPONENT development)
install(TARGETS kasane_command RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR} COMPONENT command)
install(FILES cli/kasane.desktop DESTINATION ${CMAKE_INSTALL_DATADIR}/applications COMPONENT command)
install(FILES cli/kasane.svg DESTINATION ${CMAKE_INSTALL_DATADIR}/icons/hicolor/scalable/apps COMPONENT command)

# Manual pages and what shells complete: the command writes them.
set(manual ${PROJECT_BINARY_DIR}/manual)
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

set(soname ${PROJECT_VERSION_MAJOR}.${PROJECT_VERSION_MINOR})
set(package_of_command kasane)
set(package_of_library libkasane${soname})
set(package_of_development libkasane-dev)
set(contact "The Kasane maintainers <kasane@example.org>")
# What is new, as a changelog of programs, and one line for Debian's own.
file(MAKE_DIRECTORY ${manual})
file(CONFIGURE OUTPUT ${manual}/changelog.Debian CONTENT "kasane (${PROJECT_VERSION}) bookworm; urgency=medium

  * The state of the sources: changelog.gz tells what users notice.

 -- ${contact}  Sun, 01 Nov 2026 12:00:00 +0000
")
file(CONFIGURE OUTPUT ${manual}/copyright CONTENT "Kasane
Copyright 2026 The Kasane maintainers

License: Apache-2.0. On Debian systems, the whole text of this license is in /usr/share/common-licenses/Apache-2.0.
")
add_custom_command(OUTPUT ${manual}/changelog.gz ${manual}/changelog.Debian.gz
                   COMMAND sh -c "gzip -9nc ${PROJECT_SOURCE_DIR}/CHANGELOG.md > ${manual}/changelog.gz"
                   COMMAND sh -c "gzip -9nc ${manual}/changelog.Debian > ${manual}/changelog.Debian.gz"
                   DEPENDS ${PROJECT_SOURCE_DIR}/CHANGELOG.md ${manual}/made VERBATIM)
add_custom_target(kasane_changelog ALL DEPENDS ${manual}/changelog.gz)
set(CPACK_COMPONENTS_ALL command library development)
if(NOT BUILD_SHARED_LIBS)
  set(CPACK_COMPONENTS_ALL command development)
endif()
foreach(component ${CPACK_COMPONENTS_ALL})
  install(FILES ${manual}/copyright ${manual}/changelog.gz ${manual}/changelog.Debian.gz
          DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/${package_of_${component}} COMPONENT ${component})
  string(TOUPPER ${component} upper)
  set(CPACK_DEBIAN_${upper}_PACKAGE_NAME ${package_of_${component}})
  set(CPACK_DEBIAN_${upper}_PACKAGE_CONTROL_STRICT_PERMISSION ON)
endforeach()
set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_CONTACT ${contact})
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_STRIP_FILES ON)
set(CPACK_DEB_COMPONENT_INSTALL ON)
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS_PRIVATE_DIRS ${PROJECT_BINARY_DIR}/kasane)
set(CPACK_DEBIAN_ENABLE_COMPONENT_DEPENDS ON)
set(CPACK_DEBIAN_COMMAND_PACKAGE_SECTION science)
set(CPACK_DEBIAN_COMMAND_PACKAGE_SUGGESTS "xdg-utils")
set(CPACK_COMPONENT_COMMAND_DESCRIPTION "Kasane builds calibration masters, grades subframes, registers the exposures
 of many nights and filters, and integrates them into master lights.")
set(CPACK_DEBIAN_LIBRARY_PACKAGE_SECTION libs)
set(CPACK_DEBIAN_PACKAGE_GENERATE_SHLIBS ON)
set(CPACK_COMPONENT_LIBRARY_DESCRIPTION "Libraries of Kasane
Calibration, grading, registration and integration of deep-sky exposures,
 as programs use them.")
set(CPACK_DEBIAN_DEVELOPMENT_PACKAGE_SECTION libdevel)
set(CPACK_COMPONENT_DEVELOPMENT_DESCRIPTION "Headers of Kasane
What programs that use Kasane are built with: find_package(kasane) of CMake,
 with examples.")
if(BUILD_SHARED_LIBS)
  set(CPACK_COMPONENT_COMMAND_DEPENDS library)
  set(CPACK_COMPONENT_DEVELOPMENT_DEPENDS library)
  set(CPACK_DEBIAN_DEVELOPMENT_PACKAGE_DEPENDS "libeigen3-dev, libfmt-dev, nlohmann-json3-dev")
else()
  file(STRINGS scripts/packages.sh development_packages REGEX "-dev")
  string(REGEX MATCHALL "[a-z0-9.+-]+-dev" development_packages "${development_packages}")
  list(REMOVE_ITEM development_packages libbenchmark-dev libopencv-imgproc-dev)
  list(REMOVE_DUPLICATES development_packages)
  list(JOIN development_packages ", " CPACK_DEBIAN_DEVELOPMENT_PACKAGE_DEPENDS)
endif()
include(CPack)
