# `cmake --install`, `find_package(kasane)` and a Debian package.
include(CMakePackageConfigHelpers)
install(TARGETS kasane_core kasane_sky kasane_project EXPORT kasaneTargets ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR})
install(TARGETS kasane_command RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR})
install(DIRECTORY kasane DESTINATION ${CMAKE_INSTALL_INCLUDEDIR} FILES_MATCHING PATTERN "*.hpp")
install(EXPORT kasaneTargets NAMESPACE kasane:: DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/kasane)
configure_package_config_file(cmake/kasaneConfig.cmake.in ${CMAKE_BINARY_DIR}/kasaneConfig.cmake
                              INSTALL_DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/kasane)
write_basic_package_version_file(${CMAKE_BINARY_DIR}/kasaneConfigVersion.cmake COMPATIBILITY SameMinorVersion)
install(FILES ${CMAKE_BINARY_DIR}/kasaneConfig.cmake ${CMAKE_BINARY_DIR}/kasaneConfigVersion.cmake
              cmake/dependencies.cmake DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/kasane)

set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_CONTACT "The Kasane maintainers")
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
include(CPack)
