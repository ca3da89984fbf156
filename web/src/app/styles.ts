/**
 * The styles of the components that are used, and of those that they are made of; the
 * library's whole sheet is twice as large. What only a few pages use, they bring with them;
 * styles.test.ts finds what is missing.
 */
import "@mantine/core/styles/UnstyledButton.layer.css";
import "@mantine/core/styles/VisuallyHidden.layer.css";
import "@mantine/core/styles/Paper.layer.css";
import "@mantine/core/styles/Popover.layer.css";
import "@mantine/core/styles/CloseButton.layer.css";
import "@mantine/core/styles/Group.layer.css";
import "@mantine/core/styles/Loader.layer.css";
import "@mantine/core/styles/Overlay.layer.css";
import "@mantine/core/styles/ModalBase.layer.css";
import "@mantine/core/styles/Input.layer.css";
import "@mantine/core/styles/InlineInput.layer.css";
import "@mantine/core/styles/FloatingIndicator.layer.css";
import "@mantine/core/styles/ScrollArea.layer.css";
import "@mantine/core/styles/Combobox.layer.css";
import "@mantine/core/styles/ActionIcon.layer.css";
import "@mantine/core/styles/Alert.layer.css";
import "@mantine/core/styles/Anchor.layer.css";
import "@mantine/core/styles/Badge.layer.css";
import "@mantine/core/styles/Breadcrumbs.layer.css";
import "@mantine/core/styles/Button.layer.css";
import "@mantine/core/styles/Center.layer.css";
import "@mantine/core/styles/Checkbox.layer.css";
import "@mantine/core/styles/CheckboxIndicator.layer.css";
import "@mantine/core/styles/Code.layer.css";
import "@mantine/core/styles/Divider.layer.css";
import "@mantine/core/styles/Drawer.layer.css";
import "@mantine/core/styles/Fieldset.layer.css";
import "@mantine/core/styles/List.layer.css";
import "@mantine/core/styles/Menu.layer.css";
import "@mantine/core/styles/Modal.layer.css";
import "@mantine/core/styles/PasswordInput.layer.css";
import "@mantine/core/styles/Pill.layer.css";
import "@mantine/core/styles/PillsInput.layer.css";
import "@mantine/core/styles/Progress.layer.css";
import "@mantine/core/styles/Radio.layer.css";
import "@mantine/core/styles/RadioIndicator.layer.css";
import "@mantine/core/styles/SegmentedControl.layer.css";
import "@mantine/core/styles/SimpleGrid.layer.css";
import "@mantine/core/styles/Stack.layer.css";
import "@mantine/core/styles/Table.layer.css";
import "@mantine/core/styles/Text.layer.css";
import "@mantine/core/styles/Title.layer.css";
import "@mantine/core/styles/Tooltip.layer.css";
