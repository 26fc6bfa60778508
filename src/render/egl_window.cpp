#include "render/egl_window.hpp"

#include <EGL/egl.h>
#include <EGL/eglext.h>
#include <vtkObjectFactory.h>
#include <vtkOpenGLFramebufferObject.h>
#include <vtk_glew.h>

namespace escultura::render {

vtkStandardNewMacro(EglWindow);

EglWindow::~EglWindow() {
    if (context_) {
        MakeCurrent();
        Finalize();
        eglMakeCurrent(display_, EGL_NO_SURFACE, EGL_NO_SURFACE, EGL_NO_CONTEXT);
        eglDestroyContext(display_, context_);
    }
}

bool EglWindow::open() {
    const auto platformDisplay =
        reinterpret_cast<PFNEGLGETPLATFORMDISPLAYEXTPROC>(eglGetProcAddress("eglGetPlatformDisplayEXT"));
    if (!platformDisplay) return false;
    EGLDisplay display = platformDisplay(EGL_PLATFORM_SURFACELESS_MESA, EGL_DEFAULT_DISPLAY, nullptr);
    if (display == EGL_NO_DISPLAY || !eglInitialize(display, nullptr, nullptr)) {
        display = platformDisplay(EGL_PLATFORM_DEVICE_EXT, EGL_DEFAULT_DISPLAY, nullptr);
        if (display == EGL_NO_DISPLAY || !eglInitialize(display, nullptr, nullptr)) return false;
    }
    if (!eglBindAPI(EGL_OPENGL_API)) return false;
    const EGLint configAttributes[] = {EGL_SURFACE_TYPE, EGL_PBUFFER_BIT, EGL_RENDERABLE_TYPE, EGL_OPENGL_BIT,
                                       EGL_NONE};
    EGLConfig config = nullptr;
    EGLint count = 0;
    eglChooseConfig(display, configAttributes, &config, 1, &count);
    const EGLint contextAttributes[] = {
        EGL_CONTEXT_MAJOR_VERSION,           3,       EGL_CONTEXT_MINOR_VERSION, 2, EGL_CONTEXT_OPENGL_PROFILE_MASK,
        EGL_CONTEXT_OPENGL_CORE_PROFILE_BIT, EGL_NONE};
    EGLContext context = eglCreateContext(display, count > 0 ? config : nullptr, EGL_NO_CONTEXT, contextAttributes);
    if (context == EGL_NO_CONTEXT) return false;
    display_ = display;
    context_ = context;
    MakeCurrent();
    SetOwnContext(0);
    SetMapped(1);
    SetIsCurrent(true);
    SetReadyForRendering(true);
    SetFrameBlitModeToNoBlit();
    return true;
}

void EglWindow::OpenGLInitContext() {
    if (Initialized) return;
    glewExperimental = GL_TRUE;
    const GLenum code = glewInit();
    GlewInitValid = code == GLEW_OK || code == 4;  // 4: no GLX display, which is not needed here
    Initialized = GlewInitValid;
    OpenGLInitState();
}

void EglWindow::MakeCurrent() {
    if (context_ && eglGetCurrentContext() != context_)
        eglMakeCurrent(display_, EGL_NO_SURFACE, EGL_NO_SURFACE, context_);
}

bool EglWindow::IsCurrent() {
    return context_ && eglGetCurrentContext() == context_;
}

void EglWindow::read(int width, int height, unsigned char* pixels) {
    MakeCurrent();
    GetDisplayFramebuffer()->Bind(GL_READ_FRAMEBUFFER);
    glReadBuffer(GL_COLOR_ATTACHMENT0);
    glPixelStorei(GL_PACK_ALIGNMENT, 4);
    glReadPixels(0, 0, width, height, GL_BGRA, GL_UNSIGNED_BYTE, pixels);
}

}  // namespace escultura::render
