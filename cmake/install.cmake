# What `cmake --install` puts where, and the packages that CPack makes of it: pargeter, and
# pargeter-standin with the simulated stores.
include(GNUInstallDirs)

# manual pages: from the commands' own descriptions and two of the documents
set(manual ${CMAKE_BINARY_DIR}/manual)
add_custom_command(OUTPUT ${manual}/made
  COMMAND ${CMAKE_COMMAND} -E rm -rf ${manual}
  COMMAND pargeter-manual pages ${CMAKE_SOURCE_DIR}/docs ${manual}
  COMMAND sh -c "gzip -9n '${manual}'/pages/*"
  COMMAND ${CMAKE_COMMAND} -E touch ${manual}/made
  DEPENDS pargeter-manual ${CMAKE_SOURCE_DIR}/docs/concepts.md ${CMAKE_SOURCE_DIR}/docs/configuration.md
  VERBATIM)
if(NOT PARGETER_SANITIZE)
  add_custom_target(manual ALL DEPENDS ${manual}/made)
endif()

install(TARGETS pargeter RUNTIME COMPONENT pargeter)
install(TARGETS pargeter-standin RUNTIME COMPONENT standin)
foreach(section 1 5 7)
  install(DIRECTORY ${manual}/pages/ DESTINATION ${CMAKE_INSTALL_MANDIR}/man${section} COMPONENT pargeter
    FILES_MATCHING PATTERN "*.${section}.gz" PATTERN "pargeter-standin*" EXCLUDE)
endforeach()
install(DIRECTORY ${manual}/pages/ DESTINATION ${CMAKE_INSTALL_MANDIR}/man1 COMPONENT standin
  FILES_MATCHING PATTERN "pargeter-standin*.1.gz")
foreach(scope system user)
  install(FILES ${manual}/units/${scope}/pargeter@.service DESTINATION lib/systemd/${scope} COMPONENT pargeter)
endforeach()
install(FILES packaging/completion/pargeter.bash DESTINATION ${CMAKE_INSTALL_DATADIR}/bash-completion/completions
  RENAME pargeter COMPONENT pargeter)
install(FILES packaging/completion/_pargeter DESTINATION ${CMAKE_INSTALL_DATADIR}/zsh/vendor-completions COMPONENT pargeter)
install(FILES packaging/completion/pargeter.fish DESTINATION ${CMAKE_INSTALL_DATADIR}/fish/vendor_completions.d
  COMPONENT pargeter)
set(documents ${CMAKE_INSTALL_DATADIR}/doc/pargeter)
install(DIRECTORY docs DESTINATION ${documents} COMPONENT pargeter FILES_MATCHING PATTERN "*.md" PATTERN screenshots EXCLUDE)
install(FILES README.md CHANGELOG.md DESTINATION ${documents} COMPONENT pargeter)
install(DIRECTORY packaging/examples DESTINATION ${documents} COMPONENT pargeter)
foreach(package pargeter standin)
  string(REPLACE standin pargeter-standin name ${package})
  install(FILES packaging/debian/copyright DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/${name} COMPONENT ${package})
  add_custom_command(OUTPUT ${manual}/../changelog/${name}/changelog.gz
    COMMAND sh -c "mkdir -p '${CMAKE_BINARY_DIR}/changelog/${name}' && \
      sed 's/^pargeter /${name} /' '${CMAKE_SOURCE_DIR}/packaging/debian/changelog' | \
      gzip -9n >'${CMAKE_BINARY_DIR}/changelog/${name}/changelog.gz'"
    DEPENDS packaging/debian/changelog VERBATIM)
  add_custom_target(changelog-${name} ALL DEPENDS ${manual}/../changelog/${name}/changelog.gz)
  install(FILES ${CMAKE_BINARY_DIR}/changelog/${name}/changelog.gz DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/${name}
    COMPONENT ${package})
endforeach()

set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_NAME pargeter)
set(CPACK_PACKAGE_CONTACT "Pargeter <pargeter@museum.example>")
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_STRIP_FILES ON)
set(CPACK_DEB_COMPONENT_INSTALL ON)
set(CPACK_COMPONENTS_ALL pargeter standin)
set(CPACK_COMPONENTS_GROUPING IGNORE)
set(CPACK_INSTALL_DEFAULT_DIRECTORY_PERMISSIONS OWNER_READ OWNER_WRITE OWNER_EXECUTE GROUP_READ GROUP_EXECUTE
  WORLD_READ WORLD_EXECUTE)
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_PACKAGE_SECTION utils)
set(CPACK_DEBIAN_PARGETER_PACKAGE_NAME pargeter)
set(CPACK_DEBIAN_PARGETER_PACKAGE_DEPENDS fuse3)
set(CPACK_DEBIAN_PARGETER_PACKAGE_RECOMMENDS ca-certificates)
set(CPACK_DEBIAN_PARGETER_PACKAGE_SUGGESTS pargeter-standin)
set(CPACK_COMPONENT_PARGETER_DESCRIPTION "mount object storage, cloud drives and SFTP servers as folders
An account is how to log in to a store, a drive is one of its folders. A
mounted drive shows all names at once; bytes come when they are read, and what
is written is uploaded in the background. Files can be pinned and evicted, and
drives run as services of systemd.")
set(CPACK_DEBIAN_PARGETER_PACKAGE_CONTROL_EXTRA ${CMAKE_SOURCE_DIR}/packaging/debian/postinst
  ${CMAKE_SOURCE_DIR}/packaging/debian/prerm ${CMAKE_SOURCE_DIR}/packaging/debian/postrm)
set(CPACK_DEBIAN_PARGETER_PACKAGE_CONTROL_STRICT_PERMISSION ON)
set(CPACK_DEBIAN_STANDIN_PACKAGE_NAME pargeter-standin)
set(CPACK_COMPONENT_STANDIN_DESCRIPTION "simulated stores, to try and test pargeter
An object store with the S3 protocol and a cloud drive over WebDAV, with
sign-in, roles, latency and faults on request. Both serve this machine and
keep their data in a folder or in memory.")
include(CPack)
