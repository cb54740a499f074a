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
include(CPack)
