/// @file render/egl_window.hpp
/// A VTK render window in a surfaceless EGL context. Kept apart: its OpenGL headers get along with no others.

#pragma once
#include <vtkGenericOpenGLRenderWindow.h>

namespace escultura::render {

class EglWindow : public vtkGenericOpenGLRenderWindow {
  public:
    static EglWindow* New();
    vtkTypeMacro(EglWindow, vtkGenericOpenGLRenderWindow);
    /// Makes the context. @return false when there is none to be had
    bool open();
    void OpenGLInitContext() override;
    void MakeCurrent() override;
    bool IsCurrent() override;
    /// Reads the frame as 32-bit BGRA rows from the bottom up.
    void read(int width, int height, unsigned char* pixels);

  protected:
    EglWindow() = default;
    ~EglWindow() override;

  private:
    void* display_ = nullptr;
    void* context_ = nullptr;
};

}  // namespace escultura::render
