# What makes a mistake of ours harder to abuse: checked copies, guarded stacks and returns, a program that lies elsewhere
# each time, relocations that nobody can write to. packaging/hardened.sh looks at the program itself.
include(CheckCCompilerFlag)
include(CheckPIESupported)
check_pie_supported()
set(CMAKE_POSITION_INDEPENDENT_CODE ON)

function(ind_add_flag flag name)
  check_c_compiler_flag(${flag} ${name})
  if(${name})
    target_compile_options(ind_flags INTERFACE ${flag})
  endif()
endfunction()

ind_add_flag(-fstack-protector-strong IND_HAS_STACK_PROTECTOR)
ind_add_flag(-fstack-clash-protection IND_HAS_STACK_CLASH)
ind_add_flag(-fcf-protection IND_HAS_CF_PROTECTION)
# It needs optimisation, and sanitizers check by themselves.
if(NOT IND_SANITIZE AND NOT IND_FUZZ AND NOT CMAKE_BUILD_TYPE STREQUAL Debug)
  target_compile_options(ind_flags INTERFACE -U_FORTIFY_SOURCE -D_FORTIFY_SOURCE=3)
endif()
include(CheckLinkerFlag)
check_linker_flag(C -Wl,-z,relro,-z,now IND_HAS_RELRO)
if(IND_HAS_RELRO)
  target_link_options(ind_flags INTERFACE -Wl,-z,relro,-z,now)
endif()

# No path of the machine that builds it: the same sources give the same bytes wherever they lie.
ind_add_flag("-ffile-prefix-map=${CMAKE_SOURCE_DIR}/=" IND_HAS_SOURCE_PREFIX_MAP)
ind_add_flag("-ffile-prefix-map=${CMAKE_BINARY_DIR}/=" IND_HAS_BUILD_PREFIX_MAP)
