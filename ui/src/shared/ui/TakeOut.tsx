import Dropdown from "react-bootstrap/Dropdown";
import type { FileFormat } from "@/shared/api/client";

const FORMATS: FileFormat[] = ["xlsx", "csv", "json"];

/** Names carried elsewhere: as a file, or as symbols on the clipboard. */
export function TakeOut({
  drop = "down",
  copyKey,
  onFile,
  onCopy,
  onDates,
}: {
  drop?: "up" | "down";
  copyKey?: string;
  onFile: (format: FileFormat) => void;
  onCopy: () => void;
  onDates?: { load: () => void; address: () => void };
}) {
  return (
    <Dropdown drop={drop} align="end">
      <Dropdown.Toggle as="button" className="quiet">
        take out
      </Dropdown.Toggle>
      <Dropdown.Menu>
        {FORMATS.map((format) => (
          <Dropdown.Item as="button" type="button" key={format} onClick={() => onFile(format)}>
            as {format.toUpperCase()}
          </Dropdown.Item>
        ))}
        <Dropdown.Item as="button" type="button" onClick={onCopy}>
          copy the symbols {copyKey && <kbd>{copyKey}</kbd>}
        </Dropdown.Item>
        {onDates && (
          <>
            <Dropdown.Divider />
            <Dropdown.Item as="button" type="button" onClick={onDates.load}>
              dates ahead as iCalendar
            </Dropdown.Item>
            <Dropdown.Item as="button" type="button" onClick={onDates.address}>
              copy the calendar’s address
            </Dropdown.Item>
          </>
        )}
      </Dropdown.Menu>
    </Dropdown>
  );
}
