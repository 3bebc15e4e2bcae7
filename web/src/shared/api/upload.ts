import { csrfToken, type Dropped, Said, said } from "./client";
import { sameAgain, sender } from "./session";

const TRIES = 4;

function once(url: string, token: string, files: File[], onProgress: (share: number) => void): Promise<Dropped> {
  return new Promise((resolve, reject) => {
    const form = new FormData();
    for (const file of files) form.append("files", file, file.name);
    const request = new XMLHttpRequest();
    request.open("POST", url);
    request.setRequestHeader("X-CSRFToken", csrfToken());
    request.setRequestHeader("X-Drop", token);
    request.upload.onprogress = (event) => event.lengthComputable && onProgress(event.loaded / event.total);
    request.onerror = () =>
      reject(new Said("The files did not get through: the server cannot be reached.", "offline", 0));
    request.onload = () => {
      let body: unknown;
      try {
        body = JSON.parse(request.responseText);
      } catch {
        body = undefined;
      }
      if (request.status < 300) resolve(body as Dropped);
      else reject(said(request.status, body));
    };
    request.send(form);
  });
}

/** A name for one drop: sent again under it, a drop whose answer was lost is not taken twice. */
function fresh(): string {
  return [...crypto.getRandomValues(new Uint8Array(16))].map((b) => b.toString(16).padStart(2, "0")).join("");
}

/** Send files, again after a break in the line. */
export async function upload(url: string, files: File[], onProgress: (share: number) => void): Promise<Dropped> {
  const token = fresh();
  for (let attempt = 1; ; attempt++) {
    const sent = sender();
    try {
      return await once(url, token, files, onProgress);
    } catch (error) {
      if (error instanceof Said && error.status === 401 && (await sameAgain(sent))) continue;
      const again = error instanceof Said && (error.status === 0 || error.status === 503);
      if (!again || attempt === TRIES) throw error;
      await new Promise((done) => setTimeout(done, 1000 * 2 ** attempt));
    }
  }
}
