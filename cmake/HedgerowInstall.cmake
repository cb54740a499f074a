# Installation and the Debian package.

if(HEDGEROW_APP)
  set(data ${CMAKE_SOURCE_DIR}/app/data)
  install(FILES ${data}/io.github.hedgerow.Hedgerow.desktop DESTINATION ${CMAKE_INSTALL_DATADIR}/applications)
  install(FILES ${data}/io.github.hedgerow.Hedgerow.metainfo.xml DESTINATION ${CMAKE_INSTALL_DATADIR}/metainfo)
  install(FILES ${data}/io.github.hedgerow.Hedgerow.mime.xml DESTINATION ${CMAKE_INSTALL_DATADIR}/mime/packages)
  install(FILES ${data}/hedgerow.svg DESTINATION ${CMAKE_INSTALL_DATADIR}/icons/hicolor/scalable/apps
          RENAME io.github.hedgerow.Hedgerow.svg)
endif()
install(DIRECTORY ${CMAKE_SOURCE_DIR}/examples ${CMAKE_SOURCE_DIR}/library DESTINATION ${CMAKE_INSTALL_DATADIR}/hedgerow FILES_MATCHING PATTERN "*.hedge")
install(DIRECTORY ${CMAKE_SOURCE_DIR}/python/hedgerow DESTINATION lib/python3/dist-packages FILES_MATCHING PATTERN "*.py")
install(FILES ${CMAKE_SOURCE_DIR}/docs/hedge.schema.json DESTINATION ${CMAKE_INSTALL_DATADIR}/hedgerow)
install(FILES ${CMAKE_SOURCE_DIR}/LICENSE DESTINATION ${CMAKE_INSTALL_DOCDIR})

set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_NAME hedgerow)
set(CPACK_PACKAGE_CONTACT "The Hedgerow developers <hedgerow@localhost>")
set(CPACK_PACKAGE_DESCRIPTION_SUMMARY "Simulates switching power circuits at the fidelity you can afford")
set(CPACK_DEBIAN_PACKAGE_SECTION electronics)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_PACKAGE_DEPENDS "fonts-noto-core, libqt6svg6")
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_STRIP_FILES ON)
set(CPACK_INSTALL_CMAKE_PROJECTS "${CMAKE_BINARY_DIR};${PROJECT_NAME};Unspecified;/")  # the program, without the library for others
include(CPack)

# The core as a library for other programs, with its headers and a CMake package: cmake --install build --component library
include(CMakePackageConfigHelpers)
set(package "${CMAKE_INSTALL_LIBDIR}/cmake/Hedgerow")
set_target_properties(hedgerow_core PROPERTIES EXPORT_NAME core)
install(TARGETS hedgerow_core EXPORT hedgerow ARCHIVE DESTINATION "${CMAKE_INSTALL_LIBDIR}" COMPONENT library)
install(DIRECTORY "${CMAKE_SOURCE_DIR}/core/" DESTINATION "${CMAKE_INSTALL_INCLUDEDIR}/hedgerow" COMPONENT library FILES_MATCHING PATTERN "*.h")
install(FILES "${CMAKE_BINARY_DIR}/core/base/version.h" DESTINATION "${CMAKE_INSTALL_INCLUDEDIR}/hedgerow/base" COMPONENT library)
install(EXPORT hedgerow FILE HedgerowTargets.cmake NAMESPACE Hedgerow:: DESTINATION "${package}" COMPONENT library)
configure_package_config_file(cmake/HedgerowConfig.cmake.in "${CMAKE_BINARY_DIR}/HedgerowConfig.cmake" INSTALL_DESTINATION "${package}")
write_basic_package_version_file("${CMAKE_BINARY_DIR}/HedgerowConfigVersion.cmake" COMPATIBILITY SameMinorVersion)
install(FILES "${CMAKE_BINARY_DIR}/HedgerowConfig.cmake" "${CMAKE_BINARY_DIR}/HedgerowConfigVersion.cmake" DESTINATION "${package}" COMPONENT library)
