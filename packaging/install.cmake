# Where things go when installed.
include(GNUInstallDirs)
install(TARGETS oxgoad oxgoad-run RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR})
install(FILES ${PROJECT_BINARY_DIR}/demo/cold_storage.oxgoad ${PROJECT_BINARY_DIR}/demo/trailers.oxgoad DESTINATION ${CMAKE_INSTALL_DATADIR}/oxgoad OPTIONAL)
install(FILES packaging/oxgoad.desktop DESTINATION ${CMAKE_INSTALL_DATADIR}/applications)
install(FILES packaging/oxgoad.svg DESTINATION ${CMAKE_INSTALL_DATADIR}/icons/hicolor/scalable/apps)
install(FILES packaging/oxgoad-run.1 packaging/oxgoad.1 DESTINATION ${CMAKE_INSTALL_MANDIR}/man1)
