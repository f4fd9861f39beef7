# One Debian package, made by "make deb" (packaging/deb.sh), which configures with the prefix /usr and IND_DEB.
if(NOT IND_DEB)
  return()
endif()
set(deb ${CMAKE_SOURCE_DIR}/packaging/debian)
find_program(IND_GZIP gzip REQUIRED)
# As the policy of Debian wants them: compressed without names and times in them.
set(changelog ${CMAKE_BINARY_DIR}/changelog.gz)
add_custom_command(OUTPUT ${changelog} COMMAND sh -c "${IND_GZIP} -9n <${deb}/changelog >${changelog}"
  DEPENDS ${deb}/changelog VERBATIM)
set(packed ${changelog})
foreach(page ${pages})
  string(REGEX REPLACE ".*\\.([157])$" "\\1" section ${page})
  add_custom_command(OUTPUT ${made}/${page}.gz COMMAND sh -c "${IND_GZIP} -9n <${made}/${page} >${made}/${page}.gz"
    DEPENDS ${made}/${page} VERBATIM)
  list(APPEND packed ${made}/${page}.gz)
  install(FILES ${made}/${page}.gz DESTINATION ${CMAKE_INSTALL_MANDIR}/man${section} COMPONENT program)
endforeach()
add_custom_target(packed ALL DEPENDS ${packed})
install(FILES ${changelog} DESTINATION ${CMAKE_INSTALL_DOCDIR} COMPONENT program)
install(FILES ${deb}/copyright DESTINATION ${CMAKE_INSTALL_DOCDIR} COMPONENT program)
install(FILES ${CMAKE_BINARY_DIR}/example/indagator.yaml DESTINATION /etc/indagator COMPONENT program)

set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_NAME indagator)
set(CPACK_PACKAGE_VERSION ${PROJECT_VERSION})
set(CPACK_PACKAGE_CONTACT "Indagator developers <indagator@skerry.example>")
set(CPACK_PACKAGE_DESCRIPTION_SUMMARY "collects syslog from network devices, files it and finds it again")
set(CPACK_PACKAGE_DESCRIPTION "Receives syslog over UDP, TCP, TLS and local sockets, understands what routers,
switches, firewalls and servers send, files it by facility and severity or by
any other rules, rotates, compresses and removes the files, and searches them.
Every message is accounted for, and rules can be tried before they count.")
set(CPACK_DEBIAN_PACKAGE_SECTION admin)
set(CPACK_DEBIAN_PACKAGE_PRIORITY optional)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_PACKAGE_DEPENDS "adduser, tzdata")
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEBIAN_PACKAGE_CONTROL_EXTRA "${deb}/conffiles;${deb}/postinst;${deb}/prerm;${deb}/postrm")
set(CPACK_DEBIAN_PACKAGE_CONTROL_STRICT_PERMISSION ON)
set(CPACK_INSTALL_CMAKE_PROJECTS "${CMAKE_BINARY_DIR};indagator;program;/")
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_INSTALL_DEFAULT_DIRECTORY_PERMISSIONS OWNER_READ OWNER_WRITE OWNER_EXECUTE GROUP_READ GROUP_EXECUTE
  WORLD_READ WORLD_EXECUTE)
set(CPACK_STRIP_FILES ON)
include(CPack)
