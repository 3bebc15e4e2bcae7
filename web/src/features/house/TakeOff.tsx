/** Takes a record off its shelf; one without a name is not there yet, and is not added. */
export function TakeOff({ name, onPress }: { name: string; onPress: () => void }) {
  return (
    <button
      type="button"
      className="dim px-1"
      aria-label={name ? `Take ${name} off the shelf` : "Do not add it"}
      title={name ? "Take it off the shelf; cases that have it keep it" : "Do not add it"}
      onClick={onPress}
    >
      ×
    </button>
  );
}
