#include "report/animation.hpp"

#include <webp/encode.h>
#include <webp/mux.h>

#include <memory>

#include "base/error.hpp"
#include "exchange/writers.hpp"

namespace escultura::report {

void writeAnimation(const std::string& path, const std::vector<QImage>& frames, int milliseconds) {
    if (frames.empty()) throw InputError("An animation needs at least one picture.");
    const int width = frames.front().width(), height = frames.front().height();
    WebPAnimEncoderOptions options;
    WebPConfig config;
    if (!WebPAnimEncoderOptionsInit(&options) || !WebPConfigInit(&config))
        throw InputError("The WebP library has another version than the program.");
    options.anim_params.loop_count = 0;
    config.quality = 82;
    config.method = 3;
    const std::unique_ptr<WebPAnimEncoder, decltype(&WebPAnimEncoderDelete)> encoder(
        WebPAnimEncoderNew(width, height, &options), &WebPAnimEncoderDelete);
    int time = 0;
    for (const QImage& frame : frames) {
        if (frame.width() != width || frame.height() != height)
            throw InputError("The pictures of an animation must have one size.");
        const QImage rgba = frame.convertToFormat(QImage::Format_RGBA8888);
        WebPPicture picture;
        bool done = WebPPictureInit(&picture);
        picture.use_argb = 1;
        picture.width = width;
        picture.height = height;
        done = done && WebPPictureImportRGBA(&picture, rgba.constBits(), static_cast<int>(rgba.bytesPerLine())) &&
               WebPAnimEncoderAdd(encoder.get(), &picture, time, &config);
        WebPPictureFree(&picture);
        if (!done)
            throw InputError(std::string("A picture cannot be encoded: ") + WebPAnimEncoderGetError(encoder.get()));
        time += milliseconds;
    }
    WebPData data;
    WebPDataInit(&data);
    const bool done =
        WebPAnimEncoderAdd(encoder.get(), nullptr, time, nullptr) && WebPAnimEncoderAssemble(encoder.get(), &data);
    const std::string bytes(reinterpret_cast<const char*>(data.bytes), done ? data.size : 0);
    WebPDataClear(&data);
    if (!done) throw InputError("The animation cannot be put together.");
    exchange::writeText(path, bytes);
}

}  // namespace escultura::report
