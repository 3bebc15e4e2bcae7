/** Below so many pixels nothing is a drag. */
export const DRAG_PX = 3;

interface Pointer {
  clientX: number;
  clientY: number;
}

/** A press that may become a drag: it is one once the pointer has gone far enough, and none again where it ends where it began. */
export class Drag {
  going = false;

  constructor(private readonly start: Pointer) {}

  private far(at: Pointer): boolean {
    return Math.hypot(at.clientX - this.start.clientX, at.clientY - this.start.clientY) >= DRAG_PX;
  }

  /** Is it a drag by now? */
  moved(at: Pointer): boolean {
    this.going ||= this.far(at);
    return this.going;
  }

  /** It was let go there: does it change anything? */
  counts(at: Pointer): boolean {
    return this.going && this.far(at);
  }
}
