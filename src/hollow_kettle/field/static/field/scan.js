// Labels read by the phone's camera. A label holds a path with a token and nothing
// else; which battery or bay that is stands in the page, so it works without network.

const form = document.querySelector("form[data-queue]");
const button = document.getElementById("scan");
const view = document.getElementById("scan-view");
const video = view.querySelector("video");
const words = view.querySelector("p");
const labels = JSON.parse(document.getElementById("labels").textContent);

const tagFields = () => [...form.querySelectorAll("input[list=battery-tags]")];
const tokenOf = (text) => text.match(/\/t\/([0-9a-z]+)\/?$/i)?.[1].toLowerCase();

// Puts what a label is where it belongs; says what it is not.
function take(text) {
  const found = labels[tokenOf(text)];
  if (!found) return "This is no battery or bay of this event. Type the tag, if you know it.";
  if (found.to) {
    const place = form.querySelector("select[name=to], select[name=place_out]");
    if (!place) return `This is ${found.name}: log a move to put a battery there.`;
    place.value = found.to;
    return "";
  }
  const fields = tagFields();
  const empty = fields.find((one) => !one.value) ?? fields[0];
  if (!empty) return `This is ${found.tag}; no battery is asked for here.`;
  empty.value = found.tag;
  empty.focus();
  return "";
}

async function scan() {
  words.textContent = "Hold the label's code before the camera.";
  view.showModal();
  let stream;
  try {
    if (!self.jsQR) await import(button.dataset.reader);
    stream = await navigator.mediaDevices.getUserMedia({ video: { facingMode: "environment" } });
  } catch {
    words.textContent = "The camera can't be used: allow it in the browser, or type the tag.";
    return;
  }
  video.srcObject = stream;
  await video.play();
  const canvas = document.createElement("canvas");
  const pen = canvas.getContext("2d", { willReadFrequently: true });
  while (view.open) {
    canvas.width = Math.min(640, video.videoWidth);
    canvas.height = Math.round((canvas.width * video.videoHeight) / video.videoWidth) || 0;
    if (canvas.width && canvas.height) {
      pen.drawImage(video, 0, 0, canvas.width, canvas.height);
      const { data, width, height } = pen.getImageData(0, 0, canvas.width, canvas.height);
      const code = self.jsQR(data, width, height);
      const trouble = code?.data ? take(code.data) : null;
      if (trouble === "") break;
      if (trouble) words.textContent = trouble;
    }
    await new Promise((next) => window.setTimeout(next, 120));
  }
  for (const track of stream.getTracks()) track.stop();
  video.srcObject = null;
  view.close();
}

// Browsers lend the camera only to pages that came by https, or to the own machine.
if (navigator.mediaDevices?.getUserMedia) {
  button.hidden = !tagFields().length;
  button.addEventListener("click", scan);
}
