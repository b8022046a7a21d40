// What makes a form nicer where scripts run; nothing hangs on it.
// Looks for an answer that is not there yet, and shows it.
const waits = async () => {
  for (;;) {
    await new Promise((done) => setTimeout(done, 1000));
    try {
      const answer = await fetch(location.href, { headers: { Accept: "text/html" } });
      if (answer.status !== 202 && answer.status !== 429 && answer.status !== 503) break;
    } catch {
      // it is looked for again once there is a network
    }
  }
  location.reload();
};

const begin = () => {
  if (document.getElementById("waiting")) void waits();
  const wrongs = document.getElementById("wrongs");
  if (wrongs) wrongs.focus();
  const form = document.querySelector("form");
  if (!form) return;
  const button = form.querySelector("button");
  const progress = form.querySelector("progress");
  const sending = () => {
    button.disabled = true;
    button.textContent = "Sending…";
  };
  const ready = () => {
    button.disabled = false;
    button.textContent = words;
    progress.parentElement.hidden = true;
  };
  const words = button.textContent;
  addEventListener("pageshow", (e) => {
    if (e.persisted) ready(); // back from the page that followed
  });
  form.addEventListener("submit", (e) => {
    const large = [...form.querySelectorAll("input[type=file]")].some((x) => x.files.length > 0);
    if (!large) {
      sending();
      return;
    }
    // With files it shows how far they are. What comes back is shown as if the browser had sent it.
    e.preventDefault();
    const data = new FormData(form);
    sending();
    progress.parentElement.hidden = false;
    const call = new XMLHttpRequest();
    call.open("POST", form.action);
    call.setRequestHeader("Accept", "text/html");
    call.upload.onprogress = (p) => {
      if (p.lengthComputable) progress.value = (100 * p.loaded) / p.total;
    };
    call.onload = () => {
      if (call.responseURL && call.responseURL !== form.action) {
        location.assign(call.responseURL);
        return;
      }
      const page = new DOMParser().parseFromString(call.responseText, "text/html");
      document.body.replaceWith(page.body);
      begin();
    };
    call.onerror = () => {
      ready();
      alert("It could not be sent. Nothing is lost: look whether you are connected, and press the button once more.");
    };
    call.send(data);
  });
};
begin();
