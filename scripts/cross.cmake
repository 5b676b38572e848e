# Debian's cross compilers, with its libraries of the other processor beside this one's:
# -DTAWNY_CROSS=aarch64-linux-gnu, arm-linux-gnueabihf, s390x-linux-gnu.
set(CMAKE_TRY_COMPILE_PLATFORM_VARIABLES TAWNY_CROSS)
set(CMAKE_SYSTEM_NAME Linux)
string(REGEX REPLACE "-.*" "" machine ${TAWNY_CROSS})
set(CMAKE_SYSTEM_PROCESSOR ${machine})
set(CMAKE_CROSSCOMPILING_EMULATOR qemu-${machine})
set(CMAKE_C_COMPILER ${TAWNY_CROSS}-gcc)
set(CMAKE_CXX_COMPILER ${TAWNY_CROSS}-g++)
set(CMAKE_ASM_COMPILER ${TAWNY_CROSS}-gcc)
set(CMAKE_LIBRARY_ARCHITECTURE ${TAWNY_CROSS})
set(PKG_CONFIG_EXECUTABLE ${TAWNY_CROSS}-pkg-config)
